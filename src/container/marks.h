#pragma once

#include <array>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "base/cursor.h"
#include "io/source.h"

namespace operculum {

/// How a container states its size.
struct SizeField {
  enum class Form { nowhere, little32, little64, big32 };
  Form form = Form::nowhere;
  std::size_t at = 0;      ///< from the container's first byte
  std::uint64_t more = 0;  ///< bytes that it does not count
};

/// Finds where a container ends that does not state it; bytes from its beginning, 0 where it cannot be told.
using FindEnd = std::uint64_t (*)(const Source& bytes, std::uint64_t begin, std::uint64_t end);

/// The same by reading up to there; `may_decode` is what may be decoded in vain, in packed bytes.
using FindFarEnd = std::uint64_t (*)(const Source& bytes, std::uint64_t begin, std::uint64_t end,
                                     std::uint64_t& may_decode);

/// What a container begins with.
struct Mark {
  std::string_view bytes;
  std::array<std::string_view, 2> formats;  ///< ids of those that begin so, in the order they are tried in
  std::size_t within = 0;                   ///< where in the container the mark is
  SizeField size = {};
  FindEnd find_end = nullptr;
  FindFarEnd far_end = nullptr;  ///< where a search is thorough
};

/// The total size that a container states or that its end tells, in bytes; nothing when none is.
std::optional<std::uint64_t> size_of(const Mark& mark, const Source& bytes, std::uint64_t begin,
                                     std::uint64_t end);

/// The marks by their first byte, and a table in which a look at four bytes tells whether any mark may begin
/// so.
class MarkTable {
 public:
  MarkTable();
  static constexpr std::size_t kKey = 4;  ///< bytes; a mark has at most one less
  /// The first place from `at` on, or `end`, where a mark may begin; kKey bytes behind `end` can be looked
  /// at.
  std::size_t next(const Byte* bytes, std::size_t at, std::size_t end) const {
    // four at a time: their looks do not wait for each other
    while (at + 4 <= end &&
           (may(bytes + at) | may(bytes + at + 1) | may(bytes + at + 2) | may(bytes + at + 3)) == 0)
      at += 4;
    while (at < end && may(bytes + at) == 0) ++at;
    return at;
  }
  const std::vector<const Mark*>& of(Byte first) const { return by_first_[first]; }

 private:
  void add(const Mark& mark);
  std::uint32_t may(const Byte* bytes) const {
    std::uint32_t slot = slot_of(bytes);
    return may_[slot / 32] >> (slot % 32) & 1;
  }
  static std::uint32_t slot_of(const Byte* bytes) {
    return (load_little<std::uint32_t>(bytes) * 0x9E3779B1u) >> 16;
  }
  std::array<std::vector<const Mark*>, 256> by_first_;
  std::array<std::uint32_t, 2048> may_{};
};

}  // namespace operculum
