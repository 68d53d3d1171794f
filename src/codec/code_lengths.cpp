#include "codec/code_lengths.h"

#include <algorithm>
#include <array>

namespace operculum {
namespace {

constexpr std::uint32_t kLeaf = UINT32_MAX;

/// A symbol, or two packages of the level below as one.
struct Package {
  std::uint64_t weight;
  std::uint32_t left = kLeaf, right = 0;  // packages; of a symbol: kLeaf, and which
};

}  // namespace

std::vector<Byte> code_lengths(std::span<const std::uint32_t> counts, unsigned most_bits) {
  std::vector<Byte> lengths(counts.size());
  std::vector<Package> all;
  for (std::size_t i = 0; i < counts.size(); ++i)
    if (counts[i] > 0) all.push_back({counts[i], kLeaf, static_cast<std::uint32_t>(i)});
  if (all.empty()) return lengths;
  if (all.size() == 1) {
    std::size_t lone = all.front().right;
    lengths[lone] = 1;
    if (lengths.size() > 1) lengths[lone == 0 ? 1 : 0] = 1;
    return lengths;
  }
  std::stable_sort(all.begin(), all.end(),
                   [](const Package& a, const Package& b) { return a.weight < b.weight; });
  const auto symbols = static_cast<std::uint32_t>(all.size());
  std::vector<std::uint32_t> level(symbols);  // of one level, by weight
  for (std::uint32_t i = 0; i < symbols; ++i) level[i] = i;
  for (unsigned bits = 1; bits < most_bits; ++bits) {
    std::vector<std::uint32_t> merged;
    merged.reserve(symbols + level.size() / 2);
    std::uint32_t symbol = 0;
    for (std::size_t pair = 0; pair + 1 < level.size(); pair += 2) {
      std::uint64_t weight = all[level[pair]].weight + all[level[pair + 1]].weight;
      while (symbol < symbols && all[symbol].weight <= weight) merged.push_back(symbol++);
      merged.push_back(static_cast<std::uint32_t>(all.size()));
      all.push_back({weight, level[pair], level[pair + 1]});
    }
    while (symbol < symbols) merged.push_back(symbol++);
    level = std::move(merged);
  }
  // A symbol's length is how often it is in the packages that the cheapest 2n - 2 consist of.
  std::vector<std::uint32_t> open(level.begin(), level.begin() + 2 * (symbols - 1));
  while (!open.empty()) {
    const Package one = all[open.back()];
    open.pop_back();
    if (one.left == kLeaf) {
      ++lengths[one.right];
    } else {
      open.push_back(one.left);
      open.push_back(one.right);
    }
  }
  return lengths;
}

std::vector<std::uint16_t> canonical_codes(std::span<const Byte> lengths) {
  constexpr std::size_t kMost = 16;
  std::array<std::uint32_t, kMost + 2> next{};
  for (Byte length : lengths) ++next[length + 1u];
  next[1] = 0;  // symbols without a code
  std::uint32_t code = 0;
  std::array<std::uint32_t, kMost + 1> first{};
  for (std::size_t bits = 1; bits <= kMost; ++bits) {
    code = (code + next[bits]) << 1;
    first[bits] = code;
  }
  std::vector<std::uint16_t> codes(lengths.size());
  for (std::size_t i = 0; i < lengths.size(); ++i)
    if (lengths[i] > 0) codes[i] = static_cast<std::uint16_t>(first[lengths[i]]++);
  return codes;
}

std::vector<std::uint32_t> symbol_costs(std::span<const Byte> lengths) {
  std::uint32_t rarest = std::max<std::uint32_t>(*std::max_element(lengths.begin(), lengths.end()), 1);
  std::vector<std::uint32_t> bits;
  bits.reserve(lengths.size());
  for (Byte one : lengths) bits.push_back(one > 0 ? one : rarest);
  return bits;
}

std::size_t used_symbols(std::span<const Byte> lengths) {
  auto last = std::find_if(lengths.rbegin(), lengths.rend(), [](Byte one) { return one > 0; });
  return static_cast<std::size_t>(lengths.rend() - last);
}

}  // namespace operculum
