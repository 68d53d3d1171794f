#include "support/lz_items.h"

#include <algorithm>
#include <queue>

namespace operculum::test {

std::vector<LzItem> find_copies(ByteView plain, const LzRules& rules) {
  constexpr std::size_t kHashBits = 15, kNone = SIZE_MAX;
  constexpr int kTries = 24;
  std::vector<std::size_t> head(std::size_t{1} << kHashBits, kNone), previous(plain.size(), kNone);
  auto hash = [&](std::size_t at) {
    std::uint32_t v = plain[at] | plain[at + 1] << 8 | plain[at + 2] << 16;
    return v * 2654435761u >> (32 - kHashBits);
  };
  std::vector<LzItem> items;
  for (std::size_t at = 0; at < plain.size();) {
    LzItem best{0, 0, plain[at]};
    std::size_t room = std::min(rules.longest, plain.size() - at);
    if (rules.frame != SIZE_MAX) room = std::min(room, rules.frame - at % rules.frame);
    if (room >= std::max<std::size_t>(rules.least, 3)) {
      std::size_t from = head[hash(at)];
      for (int i = 0; i < kTries && from != kNone && at - from < rules.window; ++i, from = previous[from]) {
        std::size_t length = 0;
        while (length < room && plain[from + length] == plain[at + length]) ++length;
        if (length >= rules.least && length > best.length) best = {length, at - from, 0};
      }
    }
    std::size_t end = at + std::max<std::size_t>(best.length, 1);
    for (; at < end; ++at) {
      if (at + 2 >= plain.size()) continue;
      previous[at] = head[hash(at)];
      head[hash(at)] = at;
    }
    items.push_back(best);
  }
  return items;
}

std::vector<Byte> code_lengths(const std::vector<std::size_t>& counts, unsigned most) {
  struct Node {
    std::size_t count;
    int left, right;
  };
  std::vector<Byte> lengths(counts.size());
  for (std::size_t shrink = 0;; ++shrink) {
    std::vector<Node> nodes;
    using Item = std::pair<std::size_t, int>;
    std::priority_queue<Item, std::vector<Item>, std::greater<>> queue;
    for (std::size_t i = 0; i < counts.size(); ++i) {
      nodes.push_back({counts[i] == 0 ? 0 : (counts[i] >> shrink) + 1, -1, -1});
      if (counts[i] != 0) queue.push({nodes.back().count, static_cast<int>(i)});
    }
    if (queue.empty()) return lengths;
    if (queue.size() == 1) {
      lengths[static_cast<std::size_t>(queue.top().second)] = 1;
      return lengths;
    }
    while (queue.size() > 1) {
      Item a = queue.top();
      queue.pop();
      Item b = queue.top();
      queue.pop();
      nodes.push_back({a.first + b.first, a.second, b.second});
      queue.push({a.first + b.first, static_cast<int>(nodes.size() - 1)});
    }
    unsigned deepest = 0;
    std::vector<std::pair<int, unsigned>> stack = {{queue.top().second, 0}};
    while (!stack.empty()) {
      auto [node, depth] = stack.back();
      stack.pop_back();
      const Node& own = nodes[static_cast<std::size_t>(node)];
      if (own.left < 0) {
        lengths[static_cast<std::size_t>(node)] = static_cast<Byte>(depth);
        deepest = std::max(deepest, depth);
        continue;
      }
      stack.emplace_back(own.left, depth + 1);
      stack.emplace_back(own.right, depth + 1);
    }
    if (deepest <= most) return lengths;
  }
}

std::vector<std::uint32_t> canonical_codes(const std::vector<Byte>& lengths) {
  std::vector<std::uint32_t> codes(lengths.size());
  std::uint32_t code = 0;
  for (unsigned bits = 1; bits <= 16; ++bits) {
    for (std::size_t i = 0; i < lengths.size(); ++i) {
      if (lengths[i] == bits) codes[i] = code++;
    }
    code <<= 1;
  }
  return codes;
}

}  // namespace operculum::test
