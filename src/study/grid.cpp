#include "study/grid.h"

#include <algorithm>

#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kLastRows = 64;

}  // namespace

void put_decoded(Bytes& cells, std::uint64_t value) {
  for (std::size_t i = 0; i < kDecodedCell; ++i) cells.push_back(static_cast<Byte>(value >> (8 * i)));
}

Bytes bytes_of(const Space& space, const Subject& subject, std::uint64_t at, std::uint64_t count) {
  if (at < space.at || at > space.end() || count > space.end() - at) {
    if (space.plain) return subject.read(at, count);
    if (at < space.at || at > space.end()) return {};
    count = space.end() - at;
  }
  auto begin = space.bytes.begin() + static_cast<std::ptrdiff_t>(at - space.at);
  return {begin, begin + static_cast<std::ptrdiff_t>(count)};
}

Grid fixed_grid(const SpacePtr& space, const Subject& subject, std::uint64_t begin, std::size_t stride,
                std::uint64_t count, std::size_t most) {
  Grid grid;
  grid.space = space;
  grid.shape.before = stride;
  grid.begin = begin;
  grid.end = begin + count * stride;
  grid.count = count;
  std::size_t rows = static_cast<std::size_t>(std::min<std::uint64_t>(count, most));
  bool all = rows == count;
  std::size_t first = all ? rows : rows - std::min(rows, kLastRows);
  grid.cells = bytes_of(*space, subject, begin, first * stride);
  grid.break_at = first;
  if (!all) {
    Bytes last =
        bytes_of(*space, subject, begin + (count - (rows - first)) * stride, (rows - first) * stride);
    grid.cells.insert(grid.cells.end(), last.begin(), last.end());
  }
  if (grid.cells.size() != rows * stride) grid.cells.clear();
  return grid;
}

Grid text_grid(const SpacePtr& space, std::uint64_t begin, const Shape& shape, std::uint64_t most_count) {
  Grid grid;
  grid.space = space;
  grid.shape = shape;
  grid.begin = begin;
  const Bytes& bytes = space->bytes;
  std::size_t at = static_cast<std::size_t>(begin - space->at), first = at;
  while (grid.texts.size() < most_count) {
    std::size_t start = at;
    if (bytes.size() - at < shape.before) break;
    at += shape.before;
    std::size_t fixed_end = at;
    if (shape.other == OtherText::in_front) {
      auto taken = read_other_text(bytes, at);
      if (!taken) break;
      at += *taken;
    }
    auto text = read_text(bytes, at, shape);
    bool closing =
        !text && shape.text == TextEnd::zero && at < bytes.size() && bytes[at] == 0 && !grid.texts.empty();
    if (closing) text = RecordText{{}, 1};
    if (!text) break;
    std::size_t after = at + text->taken;
    if (after > bytes.size() || bytes.size() - after < shape.after) break;
    std::size_t end = after + shape.after;
    if (shape.other == OtherText::at_end) {
      auto taken = read_other_text(bytes, end);
      if (!taken) break;
      end += *taken;
    }
    grid.cells.insert(grid.cells.end(), bytes.begin() + static_cast<std::ptrdiff_t>(start),
                      bytes.begin() + static_cast<std::ptrdiff_t>(fixed_end));
    grid.cells.insert(grid.cells.end(), bytes.begin() + static_cast<std::ptrdiff_t>(after),
                      bytes.begin() + static_cast<std::ptrdiff_t>(after + shape.after));
    at = first + round_up(end - first, shape.align);
    grid.texts.emplace_back(text->text);
    grid.starts.push_back(space->at + start);
    grid.ends.push_back(space->at + at);
    if (closing || at > bytes.size()) break;
  }
  grid.count = grid.texts.size();
  grid.break_at = grid.texts.size();
  grid.end = grid.ends.empty() ? begin : grid.ends.back();
  return grid;
}

}  // namespace operculum::study
