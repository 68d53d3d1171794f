#pragma once

#include <algorithm>
#include <bit>
#include <span>
#include <vector>

#include "base/cursor.h"

namespace operculum {

/// A copy of earlier bytes; length 0: none, a literal is written.
struct Copy {
  std::uint32_t length = 0, distance = 0;
};

/// Finds what of the bytes at a place lies in front of it, for encoders of the LZ77 kind. All places of the
/// buffer are asked, or passed, in their order.
class MatchFinder {
 public:
  /// What copies a format can write, in bytes.
  struct Reach {
    std::uint64_t nearest = 1, farthest = 0;  ///< distances
    std::size_t longest = 0;
    std::size_t most_tried = 256;  ///< candidates at one place
  };

  /// The buffer must outlive this; its bytes need be there only when a place near them is asked.
  MatchFinder(ByteView buffer, const Reach& reach)
      : buffer_(buffer), reach_(reach), near_(kHashBits, buffer.size()), far_(kFarHashBits, buffer.size()) {}

  /// Calls `found(Copy)` for copies of at least kShortest bytes at the place that end before `end`, each
  /// longer than the one in front of it.
  template <typename Found>
  void find(std::size_t at, std::size_t end, Found found) {
    std::size_t room = std::min(reach_.longest, end - at), best = kShortest - 1;
    if (room >= kShortest)
      best = follow(near_, at, room, best, {std::min(reach_.farthest, kNear), reach_.most_tried}, found);
    if (room >= kLong && best < room) follow(far_, at, room, best, {reach_.farthest, kMostFarTried}, found);
    pass(at, end);
  }

  /// Notes the bytes of a place without looking for a copy.
  void pass(std::size_t at, std::size_t end) {
    if (at + kShortest <= end) near_.note(hash_near(at), at);
    if (at + kLong <= end) far_.note(hash_far(at), at);
  }

  /// How many bytes are equal from two places on, up to `most`.
  std::size_t equal_bytes(std::size_t a, std::size_t b, std::size_t most) const {
    std::size_t length = 0;
    for (; length + 8 <= most; length += 8) {
      auto differs =
          load_little<std::uint64_t>(&buffer_[a + length]) ^ load_little<std::uint64_t>(&buffer_[b + length]);
      if (differs != 0) return length + static_cast<std::size_t>(std::countr_zero(differs)) / 8;
    }
    while (length < most && buffer_[a + length] == buffer_[b + length]) ++length;
    return length;
  }

  static constexpr std::size_t kShortest = 3;

 private:
  static constexpr std::uint32_t kNone = UINT32_MAX;
  static constexpr unsigned kHashBits = 15, kFarHashBits = 17;
  static constexpr std::size_t kLong = 8;
  static constexpr std::size_t kMostFarTried = 16;
  static constexpr std::uint64_t kNear = 64 * 1024;  // bytes: short copies from farther away win nothing

  /// How far a chain is followed.
  struct Search {
    std::uint64_t farthest;
    std::size_t most_tried;
  };

  /// Places with the same hash, the last one first.
  struct Chains {
    Chains(unsigned hash_bits, std::size_t places)
        : heads(std::size_t{1} << hash_bits, kNone), before(places, kNone) {}
    void note(std::size_t slot, std::size_t at) {
      before[at] = heads[slot];
      heads[slot] = static_cast<std::uint32_t>(at);
    }
    std::vector<std::uint32_t> heads, before;
  };

  /// Tries the places of a chain, and returns the length of the best copy.
  template <typename Found>
  std::size_t follow(const Chains& chains, std::size_t at, std::size_t room, std::size_t best,
                     const Search& search, Found& found) {
    std::uint32_t candidate = chains.heads[&chains == &far_ ? hash_far(at) : hash_near(at)];
    for (std::size_t tried = 0; candidate != kNone && tried < search.most_tried; ++tried) {
      std::uint64_t distance = at - candidate;
      if (distance > search.farthest) break;
      bool may_be_longer = distance >= reach_.nearest && buffer_[candidate + best] == buffer_[at + best];
      std::size_t length = may_be_longer ? equal_bytes(candidate, at, room) : 0;
      if (length > best) {
        best = length;
        found(Copy{static_cast<std::uint32_t>(length), static_cast<std::uint32_t>(distance)});
      }
      if (best == room) break;
      candidate = chains.before[candidate];
    }
    return best;
  }

  std::size_t hash_near(std::size_t at) const {
    std::uint32_t three =
        buffer_[at] | std::uint32_t{buffer_[at + 1]} << 8 | std::uint32_t{buffer_[at + 2]} << 16;
    return (three * 2654435761u) >> (32 - kHashBits);
  }
  std::size_t hash_far(std::size_t at) const {
    return (load_little<std::uint64_t>(buffer_.data() + at) * 0x9E3779B97F4A7C15u) >> (64 - kFarHashBits);
  }

  ByteView buffer_;
  Reach reach_;
  Chains near_, far_;  // by the first kShortest bytes, and by kLong: what lies far back is found by these
};

/// The copies that are possible at each place of a stretch.
struct CopyLists {
  std::vector<Copy> all;
  std::vector<std::uint32_t> first;  ///< of each place in `all`, and the end

  std::span<const Copy> at(std::size_t place) const {
    return std::span(all).subspan(first[place], first[place + 1] - first[place]);
  }
};

/// Asks all places from `begin` up to `end`, where no copy goes beyond `stop(place)`. Within a copy of `nice`
/// bytes and more nothing is looked for: it will be taken.
template <typename Stop>
CopyLists find_copies(MatchFinder& finder, std::size_t begin, std::size_t end, std::size_t nice, Stop stop) {
  CopyLists out;
  out.first.reserve(end - begin + 1);
  std::size_t passed = begin;  // places in front of this one lie in a long copy
  for (std::size_t at = begin; at < end; ++at) {
    out.first.push_back(static_cast<std::uint32_t>(out.all.size()));
    if (at < passed) {
      finder.pass(at, end);
      continue;
    }
    finder.find(at, stop(at), [&](const Copy& copy) { out.all.push_back(copy); });
    bool any = out.all.size() > out.first.back();
    if (any && out.all.back().length >= nice) passed = at + out.all.back().length;
  }
  out.first.push_back(static_cast<std::uint32_t>(out.all.size()));
  return out;
}

/// The steps, literals and copies of at least kShortest bytes, that take the fewest bits by `costs`:
/// `literal(byte)` and `copy(Copy)` say how many. Of copies of `nice` bytes and more no part is considered.
template <typename Costs>
std::vector<Copy> cheapest_steps(ByteView plain, const CopyLists& copies, std::size_t nice,
                                 const Costs& costs) {
  const std::size_t count = plain.size();
  std::vector<std::uint32_t> bits(count + 1, UINT32_MAX);
  std::vector<Copy> arrived(count + 1);
  bits[0] = 0;
  auto arrive = [&](std::size_t at, const Copy& step, std::uint32_t cost) {
    if (cost >= bits[at]) return;
    bits[at] = cost;
    arrived[at] = step;
  };
  for (std::size_t i = 0; i < count; ++i) {
    arrive(i + 1, {}, bits[i] + costs.literal(plain[i]));
    std::uint32_t from = MatchFinder::kShortest;
    for (const Copy& longest : copies.at(i)) {
      if (longest.length >= nice) from = longest.length;
      for (std::uint32_t length = from; length <= longest.length; ++length) {
        Copy copy{length, longest.distance};
        arrive(i + length, copy, bits[i] + costs.copy(copy));
      }
      from = longest.length + 1;
    }
  }
  std::vector<Copy> steps;
  for (std::size_t at = count; at > 0; at -= std::max(arrived[at].length, 1u)) steps.push_back(arrived[at]);
  std::reverse(steps.begin(), steps.end());
  return steps;
}

}  // namespace operculum
