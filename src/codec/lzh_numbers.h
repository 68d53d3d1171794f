#pragma once

namespace operculum::lzh {

// What both directions of lzh have in common.

inline constexpr unsigned kLengthSymbols = 19, kLengthBits = 5,
                          kLengthGap = 3;                   // the code for code lengths
inline constexpr unsigned kSymbols = 510, kSymbolBits = 9;  // 256 literals, copies of 3 to 256 bytes
inline constexpr unsigned kShortestCopy = 3, kLongestCopy = 256;
inline constexpr unsigned kMostBits = 16;  // of a code
inline constexpr unsigned kShortPlaceWindow =
    13;  // bits of a window up to which a count of places takes 4 bits

/// Throws Malformed for windows that are not known.
void check_window(unsigned window_bits);

}  // namespace operculum::lzh
