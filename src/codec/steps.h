#pragma once

#include <array>
#include <cstdint>

namespace operculum {

/// Numbers coded as a step and extra bits: where each step begins, and how many bits tell the place in it.
template <std::size_t Count>
struct Steps {
  std::array<std::uint32_t, Count> base{};
  std::array<std::uint8_t, Count> extra{};
};

/// Steps that follow each other from 0 on; `extra_of` gives the bits of a step by its number.
template <std::size_t Count, typename ExtraOf>
constexpr Steps<Count> make_steps(ExtraOf extra_of) {
  Steps<Count> steps;
  std::uint32_t base = 0;
  for (unsigned i = 0; i < Count; ++i) {
    steps.base[i] = base;
    steps.extra[i] = static_cast<std::uint8_t>(extra_of(i));
    base += 1u << steps.extra[i];
  }
  return steps;
}

}  // namespace operculum
