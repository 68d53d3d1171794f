#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// A pack in a format that was drawn by lot.
struct RandomPack {
  Bytes bytes;
  std::string features;  ///< what was drawn, in words, for telling failures apart
  struct File {
    std::string path;  ///< empty: the pack has no names
    Bytes data;
  };
  std::vector<File> files;
};

/// The pack of that number; the same each time.
RandomPack random_pack(std::uint64_t number);

/// Bytes that are no pack: texts, noise, pictures, tables of numbers, a single packed stream.
Bytes random_nothing(std::uint64_t number);

}  // namespace operculum::test
