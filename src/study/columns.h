#pragma once

#include <array>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "study/grid.h"

namespace operculum::study {

/// Alignments of data that are tried, in bytes.
constexpr std::array<std::uint64_t, 4> kAlignments = {4, 16, 512, 2048};

/// What a column of an index seems to be.
enum class Role {
  offset,    ///< where an entry's data begins
  end_at,    ///< where it ends
  size,      ///< bytes that it takes in the file
  unpacked,  ///< bytes that it has when it is decoded
  name,      ///< a text that names it
  name_at,   ///< where its name begins, in a table of texts
  packing,   ///< which codec it is packed with
  sum,       ///< a checksum or digest of its bytes; `detail` tells which, of what
  time,      ///< seconds since 1970
  part,      ///< bytes of a part of the entry
  parent,    ///< which record it lies in
  depth,     ///< in how many folders it lies
  behind,    ///< which record lies behind all that lie in it
  first_in,  ///< which record lies in it first
  children,  ///< how many records lie in it
  next_in,   ///< which record is the next one in the same folder
  hash,      ///< a hash of its name; `detail` is what known() of the layout language is told
  other,     ///< not known
};
std::string_view name_of(Role role);

/// Which way places are counted.
enum class PlaceCount {
  up,     ///< from a place in front of all data, or as they are
  back,   ///< from a place behind, such as the end, towards the front
  below,  ///< the same, as numbers below zero
  own     ///< from where the place's own record lies; below zero when all data lies in front of the records
};

/// A field of every record.
struct Column {
  Role role = Role::other;
  std::size_t at = 0;                  ///< within the fixed bytes of a record
  NumberForm form;                     ///< of a number; of a digest its width is 0
  std::size_t width = 4;               ///< in bytes
  std::uint64_t factor = 1, mask = 0;  ///< the value is (number xor mask) * factor
  unsigned bits = 0;                   ///< of the number, its lowest ones; the others are flags. 0: all
  PlaceCount counted = PlaceCount::up;
  std::uint64_t from = 0;  ///< where `counted` is not up: makes the least of all values 0, modulo 2^64
  std::string detail;      ///< of a text its filling, of packing the number that means packed
  std::string why;         ///< the evidence, in words

  /// What a stored number comes to, in units of `factor`.
  std::uint64_t count_of(std::uint64_t stored) const {
    return bits == 0 ? stored ^ mask : stored & ((std::uint64_t{1} << bits) - 1);
  }
  /// The same of a row, whichever way it is counted.
  std::uint64_t count(const Grid& grid, std::size_t row) const {
    std::uint64_t stored = grid.value(row, at, form);
    switch (counted) {
      case PlaceCount::up:
        break;
      case PlaceCount::back:
        return from - stored;
      case PlaceCount::below:
        return from + sign_extended(stored, form);
      case PlaceCount::own:
        return from + sign_extended(stored, form) + grid.start(row);
    }
    return count_of(stored);
  }
  std::uint64_t value(const Grid& grid, std::size_t row) const { return count(grid, row) * factor; }
  /// The bits that are no part of the number.
  std::uint64_t flags(const Grid& grid, std::size_t row) const { return grid.value(row, at, form) >> bits; }
};

inline bool overlap(const Column& a, const Column& b) {
  return a.at < b.at + b.width && b.at < a.at + a.width;
}

/// Names of four bytes or fewer may be numbers whose bytes can be printed.
enum class ShortNames { are_texts, may_be_numbers };

/// Which fixed bytes of a record are part of none of these columns.
std::vector<bool> free_bytes(const std::vector<Column>& columns, std::size_t fixed, ShortNames names);

/// Whether a number may lie at `at` of a record: all its bytes are free, and no text of varying length is in
/// their midst.
bool may_lie(const Grid& grid, const std::vector<bool>& free, std::size_t at, NumberForm form);

}  // namespace operculum::study
