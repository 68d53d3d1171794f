#pragma once

#include <array>
#include <vector>

#include "study/subject.h"

namespace operculum::study {

/// What a block of bytes looks like, by statistics alone.
enum class Look {
  filling,     ///< one byte over and over
  text,        ///< mostly what can be printed
  structured,  ///< numbers, tables, pictures without packing: some bytes come far more often than others
  dense,       ///< all bytes about as often: packed or encrypted
};
std::string_view name_of(Look look);

/// Bytes by what comes how often among them.
struct Counted {
  Look look;
  float entropy;  ///< bits a byte
};
Counted count_bytes(ByteView bytes);

/// A run of blocks that look alike.
struct LookRange {
  Look look;
  std::uint64_t begin, end;  ///< offsets in the file
};

/// What can be seen of bytes without knowing their form.
struct Profile {
  std::uint64_t block = 0;               ///< bytes of a block
  std::vector<LookRange> ranges;         ///< every byte once, in order
  std::vector<float> entropy;            ///< bits a byte, of each block
  std::array<std::uint64_t, 4> bytes{};  ///< of each look
};

/// Looks at every byte once; the file is cut into 2,000 blocks at most.
Profile profile_of(const Source& file);

}  // namespace operculum::study
