#pragma once

#include <array>
#include <bit>
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
using FindFarEnd = std::uint64_t (*)(const SourcePtr& bytes, std::uint64_t begin, std::uint64_t end,
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

/// The marks by their first byte, and tables that tell whether any may begin somewhere: one for two bytes,
/// which are those that marks begin with or those behind the first, so that each look serves two places; one
/// for four.
class MarkTable {
 public:
  MarkTable();
  static constexpr std::size_t kKey = 4;  ///< bytes; a mark has at most one less
  /// The first place from `at` on, or `end`, where a mark may begin; kKey bytes behind `end` can be looked
  /// at.
  std::size_t next(const Byte* bytes, std::size_t at, std::size_t end) const {
    constexpr std::size_t kStep = 8;
    for (; at + kStep <= end; at += kStep) {
      const Byte* here = bytes + at;
      if (load_little<std::uint64_t>(here) == 0) continue;  // no mark begins with a zero
      unsigned hits = pair(here + 1) | pair(here + 3) << 1 | pair(here + 5) << 2 | pair(here + 7) << 3;
      if (has_lzma_front(here)) hits = 15;
      for (; hits != 0; hits &= hits - 1) {
        std::size_t place = at + 2 * static_cast<std::size_t>(std::countr_zero(hits));
        if (may(bytes + place) != 0) return place;
        if (may(bytes + place + 1) != 0) return place + 1;
      }
    }
    while (at < end && may(bytes + at) == 0) ++at;
    return at;
  }
  const std::vector<const Mark*>& of(Byte first) const { return by_first_[first]; }

 private:
  void add(const Mark& mark, bool by_pairs);
  std::uint32_t may(const Byte* bytes) const {
    std::uint32_t slot = slot_of(bytes);
    return may_[slot / 32] >> (slot % 32) & 1;
  }
  /// Whether LZMA may begin at one of eight bytes: two zeros follow, and the byte is one of 32 among which
  /// are all usual properties. Its pairs are found everywhere.
  static bool has_lzma_front(const Byte* bytes) {
    constexpr std::uint64_t kOnes = 0x0101010101010101, kSome = 0xC8 * kOnes, kUsual = 0x48 * kOnes;
    std::uint64_t others = ((load_little<std::uint64_t>(bytes) ^ kUsual) & kSome) |
                           load_little<std::uint64_t>(bytes + 1) | load_little<std::uint64_t>(bytes + 2);
    return ((others - kOnes) & ~others & (kOnes << 7)) != 0;
  }
  unsigned pair(const Byte* bytes) const {
    std::uint16_t both = load_little<std::uint16_t>(bytes);
    return pairs_[both / 32] >> (both % 32) & 1;
  }
  static std::uint32_t slot_of(const Byte* bytes) {
    return (load_little<std::uint32_t>(bytes) * 0x9E3779B1u) >> 16;
  }
  std::array<std::vector<const Mark*>, 256> by_first_;
  std::array<std::uint32_t, 2048> may_{};
  std::array<std::uint32_t, 2048> pairs_{};
};

}  // namespace operculum
