#pragma once

#include <algorithm>

#include "codec/steps.h"

namespace operculum::lzx {

// What both directions of LZX have in common ([MS-PATCH] 2).

inline constexpr unsigned kLiterals = 256, kLengthHeaders = 8, kMostSlots = 50;
inline constexpr unsigned kMainSymbols = kLiterals + kLengthHeaders * kMostSlots;
inline constexpr unsigned kLengthSymbols = 249, kShortestCopy = 2, kLongestCopy = 257;
inline constexpr unsigned kAlignedSymbols = 8, kAlignedBits = 3;         // the code for low bits of distances
inline constexpr unsigned kLengthCodeSymbols = 20, kLengthCodeBits = 4;  // the code for code lengths
inline constexpr unsigned kTypeBits = 3, kSizeBits = 24;                 // of a block
/// Kinds of blocks, in the three bits that each begins with.
enum Type : unsigned { verbatim_block = 1, aligned_block = 2, plain_block = 3 };

/// Where distances begin, which are counted from -2 on, and how many bits follow.
inline constexpr auto kSlots =
    make_steps<kMostSlots>([](unsigned i) { return i < 4 ? 0u : std::min(i / 2 - 1, 17u); });

/// By the number of window bits, from 15 on.
inline constexpr unsigned kLeastWindow = 15, kMostWindow = 21;
inline constexpr unsigned kSlotCounts[] = {30, 32, 34, 36, 38, 42, 50};

}  // namespace operculum::lzx
