#include "study/digit_search.h"

#include <algorithm>
#include <charconv>

#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostText = 1 << 20, kMostLine = 1024;  // bytes
constexpr std::size_t kMostLines = 100'000, kMostHead = 8, kLeastLines = 3, kMostWords = 12,
                      kLinesRead = 4096;

/// A line of text: its words, and where it lies.
struct Line {
  std::size_t begin, end;  ///< with what ends it
  std::vector<std::string_view> words;
};

/// The lines at the begin of the bytes, up to the first that is no text.
std::vector<Line> lines_of(std::string_view bytes) {
  std::vector<Line> lines;
  std::size_t at = 0;
  while (at < bytes.size() && lines.size() < kMostLines) {
    std::size_t end = bytes.substr(at, kMostLine).find('\n');
    if (end == std::string_view::npos) break;
    std::string_view text = bytes.substr(at, end);
    if (!text.empty() && text.back() == '\r') text.remove_suffix(1);
    bool plain = std::all_of(text.begin(), text.end(),
                             [](char c) { return c == '\t' || is_ascii_name_byte(static_cast<Byte>(c)); });
    if (!plain) break;
    Line line{at, at + end + 1, {}};
    for (std::size_t i = 0; i < text.size();) {
      i = std::min(text.find_first_not_of(" \t", i), text.size());
      std::size_t behind = std::min(text.find_first_of(" \t", i), text.size());
      if (behind > i) line.words.push_back(text.substr(i, behind - i));
      i = behind;
    }
    lines.push_back(std::move(line));
    at += end + 1;
  }
  return lines;
}

std::optional<std::uint64_t> number_of(std::string_view word, int base) {
  std::uint64_t value = 0;
  auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value, base);
  if (error != std::errc() || end != word.data() + word.size()) return std::nullopt;
  return value;
}

/// What a column of words is in all these lines.
WordKind kind_of(const std::vector<Line>& lines, std::size_t first, std::size_t count, std::size_t column) {
  bool decimal = true, hexadecimal = true;
  for (std::size_t i = first; i < first + count; ++i) {
    decimal = decimal && number_of(lines[i].words[column], 10).has_value();
    hexadecimal = hexadecimal && number_of(lines[i].words[column], 16).has_value();
  }
  return decimal ? WordKind::decimal : hexadecimal ? WordKind::hexadecimal : WordKind::text;
}

/// `count` lines from `first` on as records; nothing when they hold no name or no number.
std::optional<Grid> grid_of(const std::vector<Line>& lines, std::size_t first, std::size_t count,
                            const SpacePtr& space) {
  Grid grid;
  grid.space = space;
  std::size_t words = lines[first].words.size();
  std::optional<std::size_t> name;
  for (std::size_t i = 0; i < words; ++i) {
    grid.words.push_back(kind_of(lines, first, count, i));
    if (grid.words.back() != WordKind::text)
      grid.shape.before += kDecodedCell;
    else if (!name)
      name = i;
  }
  if (!name || grid.shape.before == 0) return std::nullopt;
  grid.shape.text = TextEnd::word;
  grid.begin = lines[first].begin;
  grid.end = lines[first + count - 1].end;
  grid.count = count;
  for (std::size_t i = first; i < first + std::min(count, kLinesRead); ++i) {
    for (std::size_t word = 0; word < words; ++word) {
      if (grid.words[word] == WordKind::text) continue;
      put_decoded(grid.cells,
                  *number_of(lines[i].words[word], grid.words[word] == WordKind::decimal ? 10 : 16));
    }
    grid.texts.emplace_back(lines[i].words[*name]);
    grid.starts.push_back(lines[i].begin);
    grid.ends.push_back(lines[i].end);
  }
  grid.break_at = grid.rows();
  for (std::size_t i = 0; i < first; ++i) {
    for (std::string_view word : lines[i].words)
      grid.head_words.push_back(number_of(word, 10) ? WordKind::decimal : WordKind::text);
  }
  return grid;
}

/// The numbers of the words in front of the table, by their place among these.
std::vector<FrameWord> numbers_of(const std::vector<Line>& lines, std::size_t first) {
  std::vector<FrameWord> numbers;
  std::size_t place = 0;
  for (std::size_t i = 0; i < first; ++i) {
    for (std::string_view word : lines[i].words) {
      if (auto value = number_of(word, 10)) numbers.push_back({place, *value});
      ++place;
    }
  }
  return numbers;
}

/// How many lines from `first` on have as many words.
std::size_t alike(const std::vector<Line>& lines, std::size_t first) {
  std::size_t count = 0;
  while (first + count < lines.size() && lines[first + count].words.size() == lines[first].words.size())
    ++count;
  return count;
}

}  // namespace

std::vector<Hypothesis> search_digits(const SpacePtr& space, const Subject& subject) {
  std::vector<Hypothesis> best;
  if (space->at != 0 || !space->plain) return best;
  std::vector<Line> lines = lines_of(as_text(space->bytes).substr(0, kMostText));
  for (std::size_t first = 0; first < std::min(kMostHead, lines.size()); ++first) {
    std::size_t words = lines[first].words.size(), count = alike(lines, first);
    if (words < 2 || words > kMostWords || count < kLeastLines) continue;
    std::vector<FrameWord> numbers = numbers_of(lines, first);
    std::vector<std::size_t> counts = {count};
    for (const FrameWord& number : numbers) {
      if (number.value >= kLeastLines && number.value < count)
        counts.push_back(static_cast<std::size_t>(number.value));
    }
    Frame frame(subject, numbers);
    for (std::size_t rows : counts) {
      auto grid = grid_of(lines, first, rows, space);
      if (!grid) continue;
      std::vector<bool> free(grid->shape.before);
      for (std::size_t i = 0; i < free.size(); ++i)
        free[i] = i % kDecodedCell < 4 || subject.size() >> 32 != 0;
      std::vector<Pair> pairs = find_pairs(*grid, subject.size(), free);
      std::erase_if(pairs, [](const Pair& pair) {
        return pair.shift != 0 || pair.offset.at % kDecodedCell != 0 ||
               (pair.size && pair.size->at % kDecodedCell != 0);
      });
      if (pairs.empty()) {
        if (auto found = explain(*grid, frame, {})) keep_best(best, std::move(*found));
      }
      keep_explained(best, *grid, frame, pairs);
    }
  }
  for (Hypothesis& found : best) found.begin = found.grid.head_words.empty() ? "0" : "end_of(head)";
  return best;
}

}  // namespace operculum::study
