// Names of varying length stand at a constant distance from the end of the one before: that many fixed bytes
// belong to the two records, and only the numbers in them tell how many to each.
#include "study/record_search.h"

#include <algorithm>
#include <set>
#include <unordered_map>

#include "study/tables.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostFixedBytes = 64;  // bytes of a record beside its name
constexpr std::size_t kSizesNearFront = 96;  // sizes alone are looked for up to here
constexpr std::size_t kNamedPaired = 160, kLeastNamed = 3, kMostNear = 32, kMostFar = 12, kMostLedTo = 6,
                      kMostNamed = 100'000, kMostBegins = 10, kMostWindows = 12, kMostOfTail = 6,
                      kPointedReach = 256;

/// Names that follow each other so.
struct TextChain {
  Shape shape;             ///< without the split of the fixed bytes: all of them are in front
  std::size_t at = 0;      ///< of the first name's length, or of the name, in the space's bytes
  std::size_t second = 0;  ///< of the second name
  std::size_t rows = 0;
  bool inside = false;     ///< a letter stands in front of each name: they may begin earlier
  std::size_t others = 0;  ///< names with another text that is not empty, where the shape has one
  bool has_other() const { return shape.other != OtherText::none; }
};

/// Where names of one shape begin in a window, each read once.
class Names {
 public:
  Names(ByteView bytes, std::size_t reach, const Shape& shape) : bytes_(bytes), shape_(shape), taken_(reach) {
    for (std::size_t at = 0; at < reach; ++at) {
      if (auto text = read_text(bytes, at, shape)) taken_[at] = static_cast<std::uint32_t>(text->taken);
    }
  }

  /// Adds the chains whose names lie `gap` fixed bytes apart. From the last name to the first, so that each
  /// is counted once, however many chains lead to it.
  void chains(std::size_t gap, std::size_t align, bool other, std::vector<TextChain>& all) {
    other_ = other;
    rows_.assign(taken_.size(), 0);
    ends_.assign(taken_.size(), 0);
    led_to_.assign(taken_.size(), false);
    for (std::size_t at = taken_.size(); at-- > 0;) {
      if (taken_[at] == 0) continue;
      std::size_t next = after(at, gap, align);
      bool goes_on = next < taken_.size() && rows_[next] > 0;
      rows_[at] = goes_on ? rows_[next] + 1 : 1;
      ends_[at] = goes_on ? ends_[next] : static_cast<std::uint32_t>(at);
      if (goes_on) led_to_[next] = true;
    }
    std::unordered_map<std::uint32_t, std::size_t> begins;  // by where they end
    for (std::size_t at = 0; at < taken_.size(); ++at) {
      if (rows_[at] < kLeastNamed || led_to_[at]) continue;
      if (shape_.text == TextEnd::zero && is_inside_text(bytes_, at)) continue;
      if (++begins[ends_[at]] > kMostBegins) continue;
      TextChain chain{shape_, at, after(at, gap, align), rows_[at]};
      chain.shape.before = gap;
      chain.shape.align = static_cast<unsigned>(align);
      chain.shape.other = other ? OtherText::in_front : OtherText::none;
      chain.inside = inside(chain);
      all.push_back(chain);
    }
  }

 private:
  bool inside(const TextChain& chain) const {
    constexpr std::size_t kLooked = 8;
    if (shape_.text != TextEnd::zero) return false;
    std::size_t at = chain.second;
    for (std::size_t i = 0; i < kLooked && at < taken_.size() && taken_[at] > 0; ++i) {
      if (at == 0 || !is_ascii_name_byte(bytes_[at - 1])) return false;
      at = after(at, chain.shape.before, chain.shape.align);
    }
    return true;
  }

  /// Records are aligned from the start of the first one on: distances are multiples.
  std::size_t after(std::size_t at, std::size_t gap, std::size_t align) const {
    std::size_t next = at + static_cast<std::size_t>(round_up(taken_[at] + gap, align));
    if (!other_ || next >= taken_.size()) return next;
    if (bytes_[next] == 0) return next + 1;
    return taken_[next] == 0 ? taken_.size() : next + taken_[next];
  }

  ByteView bytes_;
  const Shape& shape_;
  std::vector<std::uint32_t> taken_;  // bytes of the name that begins there; 0: none
  std::vector<std::uint32_t> rows_, ends_;
  std::vector<bool> led_to_;
  bool other_ = false;  // another text stands in front of each name
};

/// Where the name behind the one at `at` would be, and the other text in front of it; nothing when there is
/// no name at `at`.
struct NextName {
  std::size_t other, name;
};
std::optional<NextName> next_name(const TextChain& chain, ByteView bytes, std::size_t at) {
  auto text = read_text(bytes, at, chain.shape);
  if (!text) return std::nullopt;
  std::size_t next =
      at + static_cast<std::size_t>(round_up(text->taken + chain.shape.before, chain.shape.align));
  if (!chain.has_other()) return NextName{next, next};
  auto other = read_other_text(bytes, next);
  return other ? std::optional(NextName{next, next + *other}) : std::nullopt;
}

/// Counts the names of a chain, beyond the window, too.
void follow(TextChain& chain, ByteView bytes) {
  chain.rows = 0;
  for (std::size_t at = chain.at; chain.rows < kMostNamed; ++chain.rows) {
    if (chain.rows == 1) chain.second = at;
    auto next = next_name(chain, bytes, at);
    if (!next) break;
    chain.others += next->name > next->other + 1 ? 1 : 0;
    at = next->name;
  }
}

/// Whether the chain goes through a name at `at`.
bool leads_to(const TextChain& chain, ByteView bytes, std::size_t at) {
  std::size_t here = chain.at;
  while (here < at) {
    auto next = next_name(chain, bytes, here);
    if (!next) return false;
    here = next->name;
  }
  return here == at;
}

std::vector<TextChain> find_chains(ByteView bytes, std::size_t most) {
  std::vector<TextChain> chains;
  for (const Shape& shape : name_shapes()) {
    Names names(bytes, std::min(bytes.size(), most), shape);
    for (std::size_t align : {1u, 4u}) {
      for (std::size_t gap = shape.text == TextEnd::zero ? 2 : 0; gap <= kMostFixedBytes; ++gap) {
        if (align == 1 || gap % align == 0 || gap <= 16) names.chains(gap, align, false, chains);
        if (align == 1 && shape.text == TextEnd::zero) names.chains(gap, align, true, chains);
      }
    }
  }
  std::stable_sort(chains.begin(), chains.end(), [](const TextChain& a, const TextChain& b) {
    return std::pair(!a.inside, a.rows) > std::pair(!b.inside, b.rows);
  });
  // Near the front there are headers, elsewhere mostly data that looks like names.
  std::vector<TextChain> kept;
  std::size_t near = 0, far = 0;
  for (const TextChain& chain : chains) {
    std::size_t& so_far = chain.at < kSizesNearFront ? near : far;
    if (so_far < (chain.at < kSizesNearFront ? kMostNear : kMostFar)) {
      ++so_far;
      kept.push_back(chain);
    }
  }
  // What is taken for the first name may be a part of a header that by chance leads to the first.
  for (std::size_t i = 0; i < std::min(chains.size(), kMostLedTo); ++i) {
    TextChain from_second = chains[i];
    from_second.at = chains[i].second;
    kept.push_back(from_second);
  }
  for (TextChain& chain : kept) follow(chain, bytes);
  std::erase_if(kept, [](const TextChain& chain) {
    return chain.rows < kLeastNamed || (chain.has_other() && chain.others == 0);
  });
  return kept;
}

/// The pairs in records whose fixed bytes are cut in two: `before` of them belong to the name that follows,
/// the others to the one in front of them.
std::vector<Pair> pairs_split(const std::vector<Pair>& pairs, std::size_t fixed, std::size_t before) {
  std::size_t after = fixed - before;
  std::vector<Pair> all;
  // Moves a column; tells how many rows further on it is, nothing when it is cut.
  auto move = [&](Column& column) -> std::optional<int> {
    if (column.at < after && column.at + column.width > after) return std::nullopt;
    bool in_front = column.at < after;
    column.at = in_front ? before + column.at : column.at - after;
    return in_front ? -1 : 0;
  };
  for (Pair pair : pairs) {
    auto row = move(pair.offset);
    if (!row) continue;
    if (pair.size) {
      auto other = move(*pair.size);
      if (!other || *other - pair.shift != *row) continue;
      pair.shift = 0;
    }
    all.push_back(std::move(pair));
  }
  return all;
}

/// Where records of a chain may be said to begin, and how many of the fixed bytes lie in front of the name.
struct RecordCut {
  Shape shape;
  std::size_t begin;  ///< of the first one, in the window
};

std::vector<RecordCut> cuts_of(const TextChain& chain, ByteView bytes) {
  constexpr std::size_t kMostOther = 64;  // bytes
  const std::size_t fixed = chain.shape.before;
  std::vector<RecordCut> cuts;
  auto add = [&](std::size_t front, std::size_t before, OtherText other) {
    if (front < before) return;
    Shape shape = chain.shape;
    shape.before = before;
    shape.after = fixed - before;
    shape.other = other;
    cuts.push_back({shape, front - before});
  };
  if (!chain.has_other()) {
    for (std::size_t before = 0; before <= fixed; ++before) add(chain.at, before, OtherText::none);
    return cuts;
  }
  add(chain.at, 0, OtherText::at_end);
  if (chain.at == 0 || bytes[chain.at - 1] != 0) return cuts;
  std::size_t front = chain.at - 1;  // of the other text: where it is empty, and as long as it can be
  std::vector<std::size_t> fronts = {front};
  while (front > 0 && chain.at - front < kMostOther && is_name_byte(bytes[front - 1])) --front;
  if (front + 1 < chain.at) fronts.push_back(front);
  for (std::size_t one : fronts)
    for (std::size_t before = 0; before <= fixed; ++before) add(one, before, OtherText::in_front);
  return cuts;
}

}  // namespace

std::vector<Hypothesis> search_records(const SpacePtr& space, const Subject& subject) {
  std::vector<Hypothesis> best;
  Frame frame(subject, space);
  std::vector<std::uint64_t> numbers = frame.places(subject.size());
  std::vector<std::uint64_t> windows = {space->at};
  if (space->bytes.size() > kMostWindow) windows.push_back(space->end() - kMostWindow);
  auto add_windows = [&](const std::vector<std::uint64_t>& places, std::size_t most) {
    for (std::uint64_t place : places) {
      bool seen = std::any_of(windows.begin(), windows.end(), [&](std::uint64_t window) {
        return place >= window && place < window + kPointedReach / 2;
      });
      if (!seen && place >= space->at && place + 32 < space->end() && windows.size() < most)
        windows.push_back(place);
    }
  };
  add_windows(numbers, kMostWindows);
  add_windows(frame.places_of_tail(subject.size()), kMostWindows + kMostOfTail);
  std::vector<TextChain> known;  // that were looked at so far
  for (std::uint64_t window : windows) {
    std::size_t from = static_cast<std::size_t>(window - space->at);
    bool pointed = window != space->at && window + kMostWindow != space->end();
    ByteView bytes = ByteView(space->bytes).subspan(from);
    for (const TextChain& chain : find_chains(bytes, pointed ? kPointedReach : kMostWindow)) {
      TextChain whole = chain;
      whole.at += from;
      // A number that points into the midst of such records is none that tells where they begin, unless
      // another tells how many follow.
      bool counted = std::find(numbers.begin(), numbers.end(), chain.rows) != numbers.end();
      if (pointed && !counted && std::any_of(known.begin(), known.end(), [&](const TextChain& one) {
            return one.shape == chain.shape && leads_to(one, space->bytes, from + chain.second);
          }))
        continue;
      known.push_back(whole);
      std::size_t fixed = chain.shape.before;
      std::set<std::uint64_t> counts = {chain.rows, chain.rows + 1};
      for (std::uint64_t number : numbers) {
        if (number <= chain.rows && number + 2 >= chain.rows) counts.insert(number);
      }
      // All fixed bytes in front of the second name, and the other text.
      std::size_t behind_first = chain.at + read_text(bytes, chain.at, chain.shape)->taken;
      std::size_t second = chain.has_other() ? behind_first : chain.second - fixed;
      Grid rows = text_grid(space, window + second, chain.shape, kNamedPaired);
      std::vector<Pair> pairs = find_pairs(rows, space->file_size, std::vector<bool>(fixed, true));
      for (const auto& [shape, begin] : cuts_of(chain, bytes)) {
        std::vector<Pair> here = pairs_split(pairs, fixed, shape.before);
        if (shape.align > 1 && (from + begin) % shape.align != 0 && shape.before % shape.align != 0) continue;
        for (std::uint64_t count : counts) {
          Grid grid = text_grid(space, window + begin, shape, count);
          if (grid.count + 1 < count || grid.rows() < kLeastNamed) continue;
          if (window == space->at && chain.at <= kSizesNearFront) {
            if (auto found = explain(grid, frame, {})) keep_best(best, std::move(*found));
          }
          keep_explained(best, grid, frame, here);
        }
      }
    }
  }
  return best;
}

}  // namespace operculum::study
