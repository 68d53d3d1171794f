#pragma once

#include <vector>

#include "study/subject.h"

namespace operculum::study {

/// Bytes that repeat at a distance as records of a table do: numbers that ascend, or texts that begin, at
/// every multiple of the stride.
struct Stretch {
  std::uint64_t at = 0;     ///< of the first number or text, in the space
  std::size_t stride = 0;   ///< bytes of a record
  std::uint64_t rows = 0;   ///< how many times it was seen
  bool text = false;        ///< texts begin there
  double weight = 0;        ///< how little likely by chance
  std::uint64_t value = 0;  ///< the first number
  std::uint64_t end() const { return at + rows * stride; }
};

/// The likeliest such stretches of `length` bytes from `from` on. Numbers are those that could be places in a
/// file of `file_size` bytes.
std::vector<Stretch> find_stretches(const Space& space, std::uint64_t from, std::size_t length,
                                    std::uint64_t file_size);

constexpr std::size_t kMostWindow = 32 * 1024;  // bytes that are searched at a time

}  // namespace operculum::study
