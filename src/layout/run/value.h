#pragma once

#include <cstdint>

namespace operculum::layout {

/// A value while a description runs. Small and plain: what is large lies in the Store and is named by a
/// handle, so that a million records cost little.
struct Value {
  enum class Kind : std::uint8_t {
    none,      ///< a field that is not there, a search without success
    number,    ///< a; also a truth (0 or 1)
    time,      ///< a: seconds since 1970; b: nanoseconds, kFloating added for a wall clock
    text,      ///< object: a text in the Store
    bytes,     ///< object: a region; a: offset in it; b: length
    blob,      ///< object: bytes that have to be decoded or joined first
    placed,    ///< a record of fixed size that is read when it is asked for: object: region, a: offset, b:
               ///< record
    item,      ///< a record without records in it: object: its list, a: its place in the list
    instance,  ///< object: a record that was read and kept
    list,      ///< object: a list
    pending,   ///< of an entry's variable: not evaluated yet
    failed,    ///< of a record's variable: object: why it cannot be had, told when it is used
  };
  static constexpr std::uint64_t kFloating = std::uint64_t{1} << 40;

  std::int64_t a = 0;
  std::uint64_t b = 0;
  std::uint32_t object = 0;
  Kind kind = Kind::none;

  bool there() const { return kind != Kind::none; }
  static Value of(std::int64_t number) { return {number, 0, 0, Kind::number}; }
  static Value truth(bool value) { return of(value ? 1 : 0); }
  static Value bytes(std::uint32_t region, std::uint64_t offset, std::uint64_t length) {
    return {static_cast<std::int64_t>(offset), length, region, Kind::bytes};
  }
  std::uint64_t offset() const { return static_cast<std::uint64_t>(a); }
};

}  // namespace operculum::layout
