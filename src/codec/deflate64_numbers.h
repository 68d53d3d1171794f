#pragma once

#include <array>
#include <cstdint>

#include "base/bytes.h"

namespace operculum::deflate64 {

// What both directions of deflate64 have in common (RFC 1951, 3.2.5 and 3.2.7, with APPNOTE 4.4.5).

inline constexpr std::size_t kWindow = 64 * 1024;  // bytes
inline constexpr unsigned kEndOfBlock = 256;
inline constexpr std::size_t kLiterals = 288, kDistances = 32;  // symbols

/// What a code stands for: the first number, and the bits behind it that are added.
struct Range {
  std::uint32_t base;
  unsigned extra;
};

inline constexpr std::array<Range, 29> kLengthRanges = {
    {{3, 0},  {4, 0},  {5, 0},  {6, 0},   {7, 0},   {8, 0},   {9, 0},   {10, 0},  {11, 1}, {13, 1},
     {15, 1}, {17, 1}, {19, 2}, {23, 2},  {27, 2},  {31, 2},  {35, 3},  {43, 3},  {51, 3}, {59, 3},
     {67, 4}, {83, 4}, {99, 4}, {115, 4}, {131, 5}, {163, 5}, {195, 5}, {227, 5}, {3, 16}}};

constexpr std::array<Range, kDistances> make_distance_ranges() {
  std::array<Range, kDistances> ranges{};
  std::uint32_t base = 1;
  for (unsigned code = 0; code < ranges.size(); ++code) {
    unsigned extra = code < 2 ? 0 : code / 2 - 1;
    ranges[code] = {base, extra};
    base += 1u << extra;
  }
  return ranges;
}
inline constexpr auto kDistanceRanges = make_distance_ranges();

inline constexpr std::array<Byte, 19> kCodeLengthOrder = {16, 17, 18, 0, 8,  7, 9,  6, 10, 5,
                                                          11, 4,  12, 3, 13, 2, 14, 1, 15};

}  // namespace operculum::deflate64
