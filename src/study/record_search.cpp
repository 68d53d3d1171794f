// Names of varying length stand at a constant distance from the end of the one before: that many fixed bytes
// belong to the two records, and only the numbers in them tell how many to each.
#include "study/record_search.h"

#include <algorithm>
#include <set>

#include "study/tables.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostFixed = 64;  // bytes of a record beside its name
constexpr std::size_t kNearFront = 96;  // sizes alone are looked for up to here
constexpr std::size_t kRowsPaired = 160, kLeastRows = 3, kMostChains = 16, kMostRows = 100'000,
                      kMostWindows = 12, kPointedReach = 256;

/// Names that follow each other so.
struct TextChain {
  Shape shape;             ///< without the split of the fixed bytes: all of them are in front
  std::size_t at = 0;      ///< of the first name's length, or of the name, in the space's bytes
  std::size_t second = 0;  ///< of the second name
  std::size_t rows = 0;
};

/// Follows names from `at` on, with `gap` fixed bytes between them, until there is none, or the visitor has
/// seen enough; it is given the place of each.
template <typename Visitor>
void follow_names(ByteView bytes, std::size_t at, const Shape& shape, std::size_t gap, std::size_t align,
                  const Visitor& go_on) {
  std::size_t first = at;
  while (auto text = read_text(bytes, at, shape)) {
    if (!go_on(at)) return;
    at = first + static_cast<std::size_t>(round_up(at + text->taken + gap - first, align));
  }
}

/// Whether a text goes on at `at`: a number in front of it, of four bytes at most, may look like letters,
/// too.
bool is_inside(ByteView bytes, std::size_t at) {
  std::size_t printed = 0;
  while (printed < at && printed <= 4 && is_ascii_name_byte(bytes[at - 1 - printed])) ++printed;
  return printed > 4;
}

std::vector<TextChain> find_chains(ByteView bytes, std::size_t most) {
  std::vector<TextChain> chains;
  std::size_t reach = std::min(bytes.size(), most);
  for (const Shape& shape : name_shapes()) {
    std::set<std::pair<std::size_t, std::size_t>> known;  // where a chain went through, by its gap
    for (std::size_t at = 0; at < reach; ++at) {
      if (shape.text == TextEnd::zero && is_inside(bytes, at)) continue;
      if (!read_text(bytes, at, shape)) continue;
      for (std::size_t align : {1u, 4u}) {
        for (std::size_t gap = shape.text == TextEnd::zero ? 2 : 0; gap <= kMostFixed; ++gap) {
          if (align > 1 && gap % align != 0 && gap > 16) continue;
          if (known.contains({at, gap * 8 + align})) continue;
          TextChain chain{shape, at, 0, 0};
          chain.shape.before = gap;
          chain.shape.align = static_cast<unsigned>(align);
          follow_names(bytes, at, shape, gap, align, [&](std::size_t) { return ++chain.rows < kLeastRows; });
          if (chain.rows < kLeastRows) continue;
          chain.rows = 0;
          follow_names(bytes, at, shape, gap, align, [&](std::size_t here) {
            known.insert({here, gap * 8 + align});
            if (chain.rows == 1) chain.second = here;
            return ++chain.rows < kMostRows;
          });
          chains.push_back(chain);
        }
      }
    }
  }
  std::stable_sort(chains.begin(), chains.end(),
                   [](const TextChain& a, const TextChain& b) { return a.rows > b.rows; });
  if (chains.size() > kMostChains) chains.resize(kMostChains);
  return chains;
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

}  // namespace

std::vector<Hypothesis> search_records(const SpacePtr& space, const Subject& subject) {
  std::vector<Hypothesis> best;
  Frame frame(subject, space);
  std::vector<std::uint64_t> numbers = frame.places(subject.size());
  std::vector<std::uint64_t> windows = {space->at};
  if (space->bytes.size() > kMostWindow) windows.push_back(space->end() - kMostWindow);
  for (std::uint64_t number : numbers) {
    bool seen = std::any_of(windows.begin(), windows.end(), [&](std::uint64_t window) {
      return number >= window && number < window + kPointedReach / 2;
    });
    if (!seen && number >= space->at && number + 32 < space->end() && windows.size() < kMostWindows)
      windows.push_back(number);
  }
  for (std::uint64_t window : windows) {
    std::size_t from = static_cast<std::size_t>(window - space->at);
    bool pointed = window != space->at && window + kMostWindow != space->end();
    ByteView bytes = ByteView(space->bytes).subspan(from);
    for (const TextChain& chain : find_chains(bytes, pointed ? kPointedReach : kMostWindow)) {
      std::size_t fixed = chain.shape.before;
      std::set<std::uint64_t> counts = {chain.rows};
      for (std::uint64_t number : numbers) {
        if (number <= chain.rows && number + 2 >= chain.rows) counts.insert(number);
      }
      Grid rows = text_grid(space, window + chain.second - fixed, chain.shape, kRowsPaired);
      std::vector<Pair> pairs = find_pairs(rows, space->file_size, std::vector<bool>(fixed, true));
      for (std::size_t before = 0; before <= fixed; ++before) {
        if (chain.at < before) break;
        std::vector<Pair> here = pairs_split(pairs, fixed, before);
        Shape shape = chain.shape;
        shape.before = before;
        shape.after = fixed - before;
        if (shape.align > 1 && (from + chain.at - before) % shape.align != 0 && before % shape.align != 0)
          continue;
        for (std::uint64_t count : counts) {
          Grid grid = text_grid(space, window + chain.at - before, shape, count);
          if (grid.count + 1 < count || grid.rows() < kLeastRows) continue;
          if (window == space->at && chain.at <= kNearFront) {
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
