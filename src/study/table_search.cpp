// A stretch tells the stride, but neither where its records begin nor how many there are. That is settled by
// what else would have to hold: data begins where the table ends, the table ends with the file, a number of
// the header tells the count or the place.
#include "study/table_search.h"

#include <algorithm>
#include <array>
#include <set>

#include "study/tables.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kNearFront = 64, kNearSizes = 32, kMostSizes = 1024;
constexpr std::size_t kMostSizeStride = 24;
constexpr std::uint64_t kRowsPaired = 160, kRowsMissed = 8, kRowsSpared = 5, kRowsOfHeader = 4,
                        kManyRows = 32;
constexpr std::size_t kTableRowsTried = 256, kCountsTried = 8, kBeginsTried = 10, kMostGuesses = 160,
                      kStretchesPointed = 8, kMostTables = 16, kPointedWindow = 1536, kKeyedWindow = 8192;

/// Where records may begin, and how many they may be.
struct Guess {
  std::uint64_t begin, count;
  bool operator==(const Guess&) const = default;
};

/// Numbers close in front of `begin` that could be how many records there are; one or two more may not be
/// counted.
std::vector<std::uint64_t> counts_before(ByteView bytes, std::uint64_t begin, std::uint64_t most) {
  constexpr std::uint64_t kReach = 16;
  constexpr NumberForm kForms[] = {{4, false}, {4, true}, {2, false}, {2, true}};
  std::vector<std::uint64_t> counts;
  for (std::uint64_t at = begin - std::min(begin, kReach); at < begin; ++at) {
    for (NumberForm form : kForms) {
      if (at + form.width > begin) continue;
      std::uint64_t number = read_number(bytes.data() + at, form);
      if (number < 4 || number > most) continue;
      for (std::uint64_t count : {number, number + 1, number + 2}) {
        if (std::find(counts.begin(), counts.end(), count) == counts.end()) counts.push_back(count);
      }
    }
  }
  return counts;
}

class Guesses {
 public:
  Guesses(const Space& space, const Subject& subject, const std::vector<std::uint64_t>& numbers)
      : space_(space), end_(space.plain ? subject.size() : space.end()), numbers_(numbers) {}

  /// `ends` are places that the first row points to: tables often end there.
  std::vector<Guess> of(const Stretch& stretch, const std::vector<std::uint64_t>& ends) {
    guesses_.clear();
    stretch_ = stretch;
    ends_ = ends;
    std::uint64_t reach = stretch.stride * (is_zero_in_front() ? 2 : 1);
    std::uint64_t first = stretch.at >= reach ? stretch.at - reach + 1 : 0;
    first = std::max(first, space_.at);
    std::set<std::uint64_t> begins;
    for (std::uint64_t number : numbers_) {
      if (number >= first && number <= stretch.at) begins.insert(number);
      // Records in front of the first one that fits: empty ones, or those that come elsewhere.
      if (number < first && number >= space_.at && number > kNearFront && begins.size() < kBeginsTried)
        begins.insert(number);
    }
    begins.insert(stretch.at);
    if (stretch.text) begins.insert(first);
    closures(first);
    for (std::uint64_t begin : begins) counts_for(begin);
    near_front(first);
    // Right behind a header that ends anywhere, else at whole words.
    for (std::uint64_t begin = first; begin <= stretch.at; begin += begin < kNearFront ? 1 : 4 - begin % 4)
      counts_for(begin);
    // Numbers of the header may happen to go on in front of the first record.
    for (std::uint64_t number : numbers_) {
      if (number > stretch.at && number <= stretch.at + kRowsOfHeader * stretch.stride) counts_for(number);
    }
    return guesses_;
  }

  std::uint64_t end() const { return end_; }

 private:
  /// The first record's data may lie at 0: that number is not seen to ascend.
  bool is_zero_in_front() const {
    constexpr std::size_t kWidth = 4;
    if (stretch_.at < space_.at + stretch_.stride + kNearFront) return false;  // see near_front()
    const Byte* number = space_.bytes.data() + (stretch_.at - stretch_.stride - space_.at);
    return stretch_.stride >= kWidth && std::all_of(number, number + kWidth, [](Byte b) { return b == 0; });
  }

  void add(std::uint64_t begin, std::uint64_t count) {
    if (count < 2 || begin < space_.at || count > (end_ - std::min(end_, begin)) / stretch_.stride) return;
    Guess guess{begin, count};
    if (guesses_.size() < kMostGuesses &&
        std::find(guesses_.begin(), guesses_.end(), guess) == guesses_.end())
      guesses_.push_back(guess);
  }

  /// Near the front there may be more records than the stretch shows: the first one's data lies at 0, or what
  /// stands in front of a text looks like a letter.
  void near_front(std::uint64_t first) {
    std::uint64_t reach = kRowsMissed * stretch_.stride;
    for (std::uint64_t begin = std::max(space_.at, first - std::min(first, reach));
         begin < std::min(first, kNearFront); ++begin) {
      for (std::uint64_t number : numbers_) {
        if (number >= rows_from(begin) && number <= rows_from(begin) + 2) add(begin, number);
      }
    }
  }

  std::uint64_t rows_from(std::uint64_t begin) const {
    if (begin <= stretch_.at) return stretch_.rows + (stretch_.at - begin) / stretch_.stride;
    std::uint64_t in_front = (begin - stretch_.at + stretch_.stride - 1) / stretch_.stride;
    return stretch_.rows - std::min(stretch_.rows, in_front);
  }

  void counts_for(std::uint64_t begin) {
    std::uint64_t rows = rows_from(begin);
    std::uint64_t most = (end_ - begin) / stretch_.stride;
    // Filling under a key looks like texts: they seem to go on behind the last record.
    std::uint64_t least =
        stretch_.text && space_.keyed() ? rows / 2 : rows - std::min<std::uint64_t>(rows, 2);
    std::vector<std::uint64_t> counts;
    for (std::uint64_t number : numbers_) {
      if (number >= least && number <= most) counts.push_back(number);
      if (number + 1 == rows) counts.push_back(rows);
      if (number % stretch_.stride == 0 && number / stretch_.stride + 2 >= rows)
        counts.push_back(number / stretch_.stride);
    }
    // Of records beyond the window any number may tell how many there are: one close in front of them.
    bool beyond = (stretch_.rows + 2) * stretch_.stride > kMostWindow && begin >= space_.at;
    if (beyond && begin - space_.at <= kNearFront) {
      for (std::uint64_t count : counts_before(space_.bytes, begin - space_.at, most))
        if (count >= rows) add(begin, count);
    }
    // Those of the widest numbers, which come first, and the closest.
    for (std::size_t i = 0; i < std::min(counts.size(), kCountsTried); ++i) add(begin, counts[i]);
    std::sort(counts.begin(), counts.end());
    for (std::size_t i = 0; i < std::min(counts.size(), kCountsTried / 2); ++i) add(begin, counts[i]);
    add(begin, rows);
    if (begin >= space_.at && (end_ - begin) % stretch_.stride == 0) add(begin, most);
  }

  /// The table ends where its first offset points, at the end of the bytes, or a trailer before that.
  void closures(std::uint64_t first) {
    std::uint64_t stride = stretch_.stride;
    for (std::uint64_t end : ends_) {
      if (end <= stretch_.at) continue;
      std::uint64_t count = (end - first) / stride;
      if (count >= 2) add(end - count * stride, count);
    }
    for (std::uint64_t number : numbers_) {  // that many records end with the bytes, or a trailer before that
      if (number < stretch_.rows || number > (end_ - space_.at) / stride) continue;
      for (std::uint64_t trailer = 0; trailer <= 64; trailer += 4) {
        std::uint64_t bytes = number * stride + trailer;
        if (bytes <= end_ && end_ - bytes >= first && end_ - bytes <= stretch_.at) add(end_ - bytes, number);
      }
      if (stretch_.value > number * stride) {
        std::uint64_t begin = stretch_.value - number * stride;
        if (begin >= first && begin <= stretch_.at) add(begin, number);
      }
    }
  }

  const Space& space_;
  std::uint64_t end_;
  const std::vector<std::uint64_t>& numbers_;
  Stretch stretch_;
  std::vector<std::uint64_t> ends_;
  std::vector<Guess> guesses_;  // the likeliest first
};

/// Where the table may end: at the first of the data, as each pair places it, or with the bytes.
std::vector<std::uint64_t> ends_of(const Stretch& stretch, const Grid& rows, const std::vector<Pair>& pairs,
                                   const Guesses& guesses) {
  std::vector<std::uint64_t> ends = {stretch.value, guesses.end()};
  for (const Pair& pair : pairs) {
    std::uint64_t end = pair.offset.value(rows, 0) - pair.offset.from;
    if (pair.offset.counted == PlaceCount::back || pair.offset.counted == PlaceCount::below)
      end += guesses.end();
    if (std::find(ends.begin(), ends.end(), end) == ends.end()) ends.push_back(end);
  }
  return ends;
}

/// The pairs of a stretch as they are in records that begin at `begin`; those that such records would cut are
/// left out.
std::vector<Pair> pairs_from(const std::vector<Pair>& pairs, const Stretch& stretch, std::uint64_t begin) {
  std::vector<Pair> all;
  auto stride = static_cast<std::int64_t>(stretch.stride);
  std::int64_t delta =
      static_cast<std::int64_t>(stretch.at) - static_cast<std::int64_t>(begin) + stride * 1024;
  for (Pair pair : pairs) {
    std::int64_t at = delta + static_cast<std::int64_t>(pair.offset.at);
    std::int64_t row = at / stride;
    pair.offset.at = static_cast<std::size_t>(at % stride);
    if (pair.offset.at + pair.offset.width > stretch.stride) continue;
    if (pair.size) {
      at = delta + static_cast<std::int64_t>(pair.size->at) - pair.shift * stride;
      pair.size->at = static_cast<std::size_t>(at % stride);
      if (at / stride != row || pair.size->at + pair.size->width > stretch.stride) continue;
      pair.shift = 0;
    }
    all.push_back(std::move(pair));
  }
  return all;
}

/// Tables of nothing but sizes and what belongs to them: no column ascends, but a number tells how many there
/// are, and together the sizes are all that lies behind the table.
void search_sizes(const SpacePtr& space, const Subject& subject, const Frame& frame,
                  std::vector<Hypothesis>& best) {
  if (!space->plain || space->at != 0) return;
  for (std::uint64_t begin = 4; begin <= std::min<std::uint64_t>(kNearSizes, space->bytes.size()); ++begin) {
    for (std::uint64_t count : counts_before(space->bytes, begin, kMostSizes)) {
      for (std::size_t stride = 4; stride <= kMostSizeStride; ++stride) {
        if (begin + count * stride >= subject.size()) break;
        Grid grid = fixed_grid(space, subject, begin, stride, count, kMostSizes);
        auto placement = place_by_sizes(grid, {subject.size(), grid.end, begin, grid.end});
        if (!placement) continue;
        // The sizes add up in whatever order entries lie: places may be told, too.
        keep_explained(best, grid, frame, find_pairs(grid, subject.size(), std::vector<bool>(stride, true)));
        if (auto found = explain(std::move(grid), frame, {}, placement)) keep_best(best, std::move(*found));
      }
    }
  }
}

}  // namespace

std::vector<Hypothesis> search_tables(const SpacePtr& space, const Subject& subject) {
  std::vector<Hypothesis> best;
  Frame frame(subject, space);
  std::vector<std::uint64_t> numbers = frame.places(subject.size());
  std::vector<std::pair<std::uint64_t, std::size_t>> windows = {{space->at, kMostWindow}};
  // What a key was taken from begins with its records, and no number leads into it.
  if (space->keyed())
    windows.front().second = kKeyedWindow;
  else if (space->bytes.size() > kMostWindow)
    windows.emplace_back(space->end() - kMostWindow, kMostWindow);
  for (std::uint64_t number : numbers) {
    if (!space->keyed() && number >= space->at + 256 && number + 32 < space->end() &&
        windows.size() < kMostTables)
      windows.emplace_back(number, kPointedWindow);
  }
  search_sizes(space, subject, frame, best);
  Guesses guesses(*space, subject, numbers);
  std::set<std::array<std::uint64_t, 3>> tried;
  for (const auto& [window, length] : windows) {
    std::vector<Stretch> stretches = find_stretches(*space, window, length, space->file_size);
    if (length < kMostWindow && stretches.size() > kStretchesPointed) stretches.resize(kStretchesPointed);
    for (const Stretch& stretch : stretches) {
      // Cut elsewhere than the records are, the last row reaches beyond them.
      std::uint64_t whole = stretch.rows > kRowsSpared ? stretch.rows - 1 : stretch.rows;
      whole = std::min(whole, (space->end() - stretch.at) / stretch.stride);
      // The first rows may be numbers of the header.
      std::uint64_t passed = whole > kManyRows ? kRowsOfHeader : 0;
      Grid rows = fixed_grid(space, subject, stretch.at + passed * stretch.stride, stretch.stride,
                             std::min(whole - passed, kRowsPaired), kRowsPaired);
      std::vector<Pair> pairs = find_pairs(
          rows, space->file_size, free_bytes(find_texts(rows), stretch.stride, ShortNames::may_be_numbers));
      if (pairs.empty() && !stretch.text) continue;
      for (const Guess& guess : guesses.of(stretch, ends_of(stretch, rows, pairs, guesses))) {
        std::vector<Pair> here = pairs_from(pairs, stretch, guess.begin);
        if (!tried.insert({stretch.stride, guess.begin, guess.count}).second && here.empty()) continue;
        Grid grid = fixed_grid(space, subject, guess.begin, stretch.stride, guess.count, kTableRowsTried);
        if (guess.begin <= kNearFront && guess.count <= kMostSizes) {
          if (auto found = explain(grid, frame, {})) keep_best(best, std::move(*found));
        }
        keep_explained(best, grid, frame, here);
      }
    }
  }
  return best;
}

}  // namespace operculum::study
