#pragma once

#include <array>
#include <cstdint>

namespace operculum {

/// The tree of an adaptive Huffman code as LZHUF has it: nodes in the order of their frequencies, so that one
/// that grows changes places with the last of those that it was equal to.
class AdaptiveTree {
 public:
  static constexpr unsigned kSymbols = 256 - 2 + 60, kNodes = 2 * kSymbols - 1, kRoot = kNodes - 1;

  AdaptiveTree();

  /// The first of the two nodes beneath `node`; kNodes and more are symbols.
  unsigned first(unsigned node) const { return son_[node]; }
  unsigned parent(unsigned node) const { return parent_[node]; }

  /// Counts a symbol once more.
  void count(unsigned symbol);

 private:
  void halve();

  std::array<std::uint16_t, kNodes + 1> frequency_{};
  std::array<std::uint16_t, kNodes + kSymbols> parent_{};
  std::array<std::uint16_t, kNodes> son_{};
};

}  // namespace operculum
