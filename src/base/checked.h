#pragma once

#include <concepts>
#include <cstdint>

#include "base/error.h"

namespace operculum {

/// a + b for numbers read from input; throws Malformed when the sum leaves 64 bits.
inline std::uint64_t checked_add(std::uint64_t a, std::uint64_t b, const char* what) {
  std::uint64_t sum = 0;
  if (__builtin_add_overflow(a, b, &sum)) throw Malformed(std::string(what) + " is too large for any file");
  return sum;
}

/// a * b for numbers read from input; throws Malformed when the product leaves 64 bits.
inline std::uint64_t checked_mul(std::uint64_t a, std::uint64_t b, const char* what) {
  std::uint64_t product = 0;
  if (__builtin_mul_overflow(a, b, &product))
    throw Malformed(std::string(what) + " is too large for any file");
  return product;
}

}  // namespace operculum
