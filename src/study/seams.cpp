#include "study/seams.h"

#include <algorithm>

#include "study/naming.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kWord = 4;  // bytes; numbers are mostly as wide
constexpr std::size_t kLeastTold = 6;
constexpr double kBitsOfRest = 3, kBitsOfHalf = 1, kBitsOfOddPlace = 1.5, kBitsOfMixture = 2;

bool is_high(char c) {
  return static_cast<Byte>(c) >= 0x80;
}

/// How many of the first bytes of all texts belong to a number in front of them, when `fixed` bytes lie in
/// front of the first of them.
std::size_t foreign_front(const std::vector<std::string>& texts, std::size_t fixed) {
  if (texts.size() < kLeastTold) return 0;
  std::size_t room = (kWord - fixed % kWord) % kWord, front = 0;
  for (std::size_t i = 0; i < room; ++i) {
    std::size_t high = 0;
    Byte least = 0xff, most = 0;
    for (const std::string& text : texts) {
      if (text.size() < room + 2) return 0;
      high += is_high(text[i]) ? 1 : 0;
      least = std::min(least, static_cast<Byte>(text[i]));
      most = std::max(most, static_cast<Byte>(text[i]));
    }
    bool steady = least == most || (most - least == 1 && texts.size() >= 2 * kLeastTold);
    bool told = high * 4 >= texts.size() || (steady && (front == i || i + 1 == room));
    if (told) front = i + 1;
  }
  if (front != room) return 0;  // not a whole number
  for (const std::string& text : texts) {
    if (std::any_of(text.begin() + static_cast<std::ptrdiff_t>(front), text.end(), is_high)) return 0;
  }
  // Names that go on alike have a beginning in common, such as a folder's.
  bool alike = std::all_of(texts.begin(), texts.end(),
                           [&](const std::string& text) { return text[front] == texts.front()[front]; });
  return alike ? 0 : front;
}

/// How many first bytes of the texts belong to the number in front of them.
std::size_t numbers_in_names(const Grid& grid) {
  if (grid.shape.text != TextEnd::zero || grid.shape.before == 0) return 0;
  return foreign_front(grid.texts, grid.shape.before);
}

/// The same records with so many bytes of each text given to the fixed bytes in front of it.
Grid with_names_freed(Grid grid, std::size_t count) {
  std::size_t before = grid.shape.before, fixed = grid.shape.fixed();
  Bytes cells;
  cells.reserve(grid.cells.size() + count * grid.texts.size());
  for (std::size_t row = 0; row < grid.texts.size(); ++row) {
    const Byte* old = grid.row(row);
    std::string& text = grid.texts[row];
    cells.insert(cells.end(), old, old + before);
    cells.insert(cells.end(), text.begin(), text.begin() + static_cast<std::ptrdiff_t>(count));
    cells.insert(cells.end(), old + before, old + fixed);
    text.erase(0, count);
  }
  grid.cells = std::move(cells);
  grid.shape.before += count;
  return grid;
}

/// Where names come first: how many first bytes of all texts but the first belong to the record in front.
std::size_t numbers_in_next_names(const Grid& grid) {
  const Shape& shape = grid.shape;
  if (shape.text != TextEnd::zero || shape.before != 0 || shape.align != 1 || shape.data_behind) return 0;
  if (grid.texts.size() <= kLeastTold) return 0;
  std::size_t count = foreign_front({grid.texts.begin() + 1, grid.texts.end()}, shape.after);
  return grid.end + count <= grid.space->end() ? count : 0;
}

Grid with_next_names_freed(Grid grid, std::size_t count) {
  std::size_t fixed = grid.shape.fixed();
  ByteView behind =
      ByteView(grid.space->bytes).subspan(static_cast<std::size_t>(grid.end - grid.space->at), count);
  Bytes cells;
  cells.reserve(grid.cells.size() + count * grid.texts.size());
  for (std::size_t row = 0; row < grid.texts.size(); ++row) {
    bool last = row + 1 == grid.texts.size();
    ByteView more = last ? behind : as_bytes(grid.texts[row + 1]).first(count);
    cells.insert(cells.end(), grid.row(row), grid.row(row) + fixed);
    cells.insert(cells.end(), more.begin(), more.end());
    if (row > 0) {
      grid.texts[row].erase(0, count);
      grid.starts[row] += count;
    }
    grid.ends[row] += count;
  }
  grid.cells = std::move(cells);
  grid.shape.after += count;
  grid.end += count;
  return grid;
}

}  // namespace

Grid settle_names(Grid grid, std::vector<Pair>& pairs, std::optional<Placement>& known) {
  if (std::size_t count = numbers_in_names(grid)) {
    auto move = [&](Column& column) { column.at += column.at >= grid.shape.before ? count : 0; };
    for (Pair& pair : pairs) {
      move(pair.offset);
      if (pair.size) move(*pair.size);
    }
    if (known && known->offset) move(*known->offset);
    if (known && known->size) move(*known->size);
    return with_names_freed(std::move(grid), count);
  }
  if (std::size_t count = numbers_in_next_names(grid)) return with_next_names_freed(std::move(grid), count);
  return grid;
}

void free_name(Column& text, const Grid& grid) {
  if (text.detail == "wide" || text.at == 0) return;
  std::vector<std::string> texts;
  for (std::size_t row = 0; row < grid.rows(); ++row) texts.push_back(text_of(grid, text, row));
  std::size_t front = foreign_front(texts, text.at);
  text.at += front;
  text.width -= front;
}

double bits_against_cut(const std::vector<Column>& columns, const Grid& grid) {
  if (grid.decoded()) return 0;
  const Shape& shape = grid.shape;
  std::vector<bool> free = free_bytes(columns, shape.fixed(), ShortNames::may_be_numbers);
  double bits = 0;
  std::size_t big = 0, little = 0;
  // The fixed bytes in front of a text, and those behind it.
  for (auto [begin, end] :
       {std::pair(std::size_t{0}, shape.before), std::pair(shape.before, shape.fixed())}) {
    for (std::size_t at = begin; at < end;) {
      std::size_t next = at;
      while (next < end && free[next]) ++next;
      bits += (next - at) % 2 != 0 ? kBitsOfRest : (next - at) % kWord != 0 ? kBitsOfHalf : 0;
      at = std::max(next, at + 1);
    }
    for (const Column& column : columns) {
      bool number = column.role != Role::name && column.role != Role::other && column.form.width > 1;
      if (!number || column.at < begin || column.at >= end) continue;
      (column.form.big ? big : little) += 1;
      std::size_t step = std::min<std::size_t>(column.form.width, kWord);
      bits += (column.at - begin) % (step == 3 ? 1 : step) != 0 ? kBitsOfOddPlace : 0;
    }
  }
  return bits + kBitsOfMixture * static_cast<double>(std::min(big, little));
}

}  // namespace operculum::study
