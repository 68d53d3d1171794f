#pragma once

#include <algorithm>
#include <array>
#include <cstdint>

#include "codec/steps.h"

namespace operculum::quantum {

constexpr unsigned kMostSymbols = 64;
constexpr unsigned kLiteralModels = 4, kLiteralsEach = 64;
constexpr unsigned kSelectors = 7, kLengths = 27, kMostSlots = 42;

/// How often the symbols of one kind were met: cumulated counts in falling order, so that the first symbol's
/// count is the total and the one behind the last is 0.
class Model {
 public:
  struct Symbol {
    std::uint16_t value, count;
  };

  Model(unsigned first, unsigned symbols) : size_(symbols) {
    for (unsigned i = 0; i <= symbols; ++i)
      at_[i] = {static_cast<std::uint16_t>(first + i), static_cast<std::uint16_t>(symbols - i)};
  }

  std::uint32_t total() const { return at_[0].count; }
  const Symbol& operator[](unsigned index) const { return at_[index]; }
  unsigned size() const { return size_; }

  /// Counts the symbol at `index` once more.
  void met(unsigned index) {
    for (unsigned i = 0; i <= index; ++i) at_[i].count = static_cast<std::uint16_t>(at_[i].count + kStep);
    if (at_[0].count > kMostTotal) rescale();
  }

 private:
  static constexpr unsigned kStep = 8, kMostTotal = 3800, kFirstSort = 4, kSortEvery = 50;

  void rescale() {
    if (--until_sort_ > 0) {
      for (unsigned i = size_; i-- > 0;) {
        at_[i].count = static_cast<std::uint16_t>(at_[i].count / 2);
        if (at_[i].count <= at_[i + 1].count) at_[i].count = static_cast<std::uint16_t>(at_[i + 1].count + 1);
      }
      return;
    }
    until_sort_ = kSortEvery;
    for (unsigned i = 0; i < size_; ++i)
      at_[i].count = static_cast<std::uint16_t>((at_[i].count - at_[i + 1].count + 1) / 2);
    // An exchange sort that does not keep the order of equals: the coder's own does just this.
    for (unsigned i = 0; i + 1 < size_; ++i) {
      for (unsigned j = i + 1; j < size_; ++j) {
        if (at_[i].count < at_[j].count) std::swap(at_[i], at_[j]);
      }
    }
    for (unsigned i = size_; i-- > 0;)
      at_[i].count = static_cast<std::uint16_t>(at_[i].count + at_[i + 1].count);
  }

  unsigned size_, until_sort_ = kFirstSort;
  std::array<Symbol, kMostSymbols + 1> at_;
};

constexpr auto kDistances = make_steps<kMostSlots>([](unsigned i) { return i < 4 ? 0u : i / 2 - 1; });
/// The last step has no extra bits: it is the longest copy alone.
constexpr auto kLengthSteps =
    make_steps<kLengths>([](unsigned i) { return i < 6 || i + 1 == kLengths ? 0u : (i - 2) / 4; });
static_assert(kLengthSteps.base[25] == 222 && kLengthSteps.base[26] == 254 && kLengthSteps.extra[25] == 5 &&
              kDistances.base[41] == 1572864);

/// The models of one stream.
struct Models {
  explicit Models(unsigned window_bits)
      : distances{Model(0, std::min(window_bits * 2, 24u)), Model(0, std::min(window_bits * 2, 36u)),
                  Model(0, window_bits * 2)} {}

  Model selector{0, kSelectors};
  std::array<Model, kLiteralModels> literals{Model(0, kLiteralsEach), Model(64, kLiteralsEach),
                                             Model(128, kLiteralsEach), Model(192, kLiteralsEach)};
  std::array<Model, 3> distances;  // of copies of 3, of 4, and of 5 and more bytes
  Model lengths{0, kLengths};
};

}  // namespace operculum::quantum
