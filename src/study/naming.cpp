#include "study/naming.h"

#include <algorithm>
#include <set>

#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kRowsLooked = 512;
constexpr std::uint64_t kMostNameTable = 1 << 20;  // bytes
constexpr double kBitsOfSome = 6;                  // texts of many

/// How many bytes from `at` on the texts of all rows take at most; 0 when there are no texts.
std::size_t text_width(const Grid& grid, std::size_t at, std::size_t unit) {
  std::size_t rows = std::min(grid.rows(), kRowsLooked), fixed = grid.shape.fixed(), width = 0;
  std::vector<bool> alive(rows, true);
  std::size_t left = rows, lost = 0;
  for (std::size_t i = at; i + unit <= fixed && left > 0; i += unit) {
    std::size_t broken = 0, high = 0;
    bool printed = false;
    std::vector<std::size_t> ended;
    for (std::size_t row = 0; row < rows; ++row) {
      if (!alive[row]) continue;
      const Byte* here = grid.row(row) + i;
      bool wide_ok = unit == 1 || here[1] == 0;
      if (is_name_byte(*here) && wide_ok) {
        printed = true;
        high += *here >= 0x80 ? 1 : 0;
      } else {
        ended.push_back(row);
        if (*here != 0 || !wide_ok) ++broken;
      }
    }
    if (broken * 8 > left || high * 2 > left) break;
    lost += broken;
    if (lost * 20 > rows) break;
    for (std::size_t row : ended) alive[row] = false;
    left -= ended.size();
    if (printed) width = i + unit - at;
  }
  return width;
}

/// Whether all columns from `at` on, `count` of them, are zero in all rows.
std::size_t zeros_behind(const Grid& grid, std::size_t at) {
  std::size_t end = at;
  for (; end < grid.shape.fixed(); ++end) {
    for (std::size_t row = 0; row < grid.rows(); ++row) {
      if (grid.row(row)[end] != 0) return end - at;
    }
  }
  return end - at;
}

/// Whether most of the first rows have a character there, all but one of a few: a quick look before a
/// thorough one.
bool begins_text(const Grid& grid, std::size_t at) {
  constexpr std::size_t kLeastSpared = 4;
  std::size_t rows = std::min<std::size_t>(grid.rows(), 16), fine = 0;
  for (std::size_t row = 0; row < rows; ++row) fine += is_name_byte(grid.row(row)[at]) ? 1 : 0;
  return fine * 8 >= rows * 7 || (rows >= kLeastSpared && fine + 1 == rows);
}

std::optional<Column> text_at(const Grid& grid, std::size_t at, std::size_t unit) {
  std::size_t width = text_width(grid, at, unit);
  if (width < 2 * unit) return std::nullopt;
  Column column{Role::name, at, {}, width};
  column.detail = unit == 2 ? "wide" : "";
  std::size_t rows = std::min(grid.rows(), kRowsLooked), fine = 0, letters = 0;
  std::set<std::string> distinct;
  bool blanks = false;
  for (std::size_t row = 0; row < rows; ++row) {
    std::string_view raw = as_text({grid.row(row) + at, width});
    blanks = blanks || (unit == 1 && raw.back() == ' ');
    std::string text = text_of(grid, column, row);
    if (!is_name(text)) continue;
    ++fine;
    letters += text.size();
    distinct.insert(std::move(text));
  }
  if (fine + 1 + rows / 20 < rows || letters < 2 * fine) return std::nullopt;
  if (blanks) column.detail = "blank";
  if (distinct.size() * 2 < rows) column.role = Role::other;
  return column;
}

std::vector<std::string> texts_of(const NameTable& names, const Grid& grid, const Bytes& table) {
  Shape shape;
  shape.text = TextEnd::zero;
  std::vector<std::string> texts(grid.rows());
  std::size_t next = 0;
  for (std::size_t row = 0; row < grid.rows(); ++row) {
    std::uint64_t at = names.place ? names.place->value(grid, row) : next;
    auto text = at < table.size() ? read_text(table, static_cast<std::size_t>(at), shape) : std::nullopt;
    if (!text) continue;
    texts[row] = text->text;
    next += text->taken;
  }
  return texts;
}

}  // namespace

std::string text_of(const Grid& grid, const Column& column, std::size_t row) {
  std::string_view raw = as_text({grid.row(row) + column.at, column.width});
  std::string text;
  if (column.detail == "wide") {
    for (std::size_t i = 0; i + 1 < raw.size() && raw[i] != '\0'; i += 2) text += raw[i];
    return text;
  }
  text = raw.substr(0, raw.find('\0'));
  while (!text.empty() && text.back() == ' ') text.pop_back();
  return text;
}

std::vector<Column> find_texts(const Grid& grid) {
  std::vector<Column> all;
  if (grid.rows() < 2) return all;
  for (std::size_t at = 0; at < grid.shape.fixed(); ++at) {
    if (!begins_text(grid, at)) continue;
    auto wide = text_at(grid, at, 2);
    auto column = wide ? wide : text_at(grid, at, 1);
    if (!column) continue;
    at += column->width + zeros_behind(grid, at + column->width);
    all.push_back(std::move(*column));
  }
  bool named = std::any_of(all.begin(), all.end(), [](const Column& one) { return one.role == Role::name; });
  for (Column& column : all) {  // names that come again and again are better than none
    if (named || column.width <= 4) continue;
    column.role = Role::name;
    named = true;
  }
  return all;
}

std::optional<NameTable> find_name_table(const Grid& grid, const Subject& subject,
                                         const std::vector<bool>& free,
                                         const std::vector<std::uint64_t>& places) {
  std::optional<NameTable> best;
  const Space& space = *grid.space;
  std::size_t rows = std::min(grid.rows(), kRowsLooked);
  auto offer = [&](NameTable found) {
    if (!best || found.bits > best->bits) best = std::move(found);
  };
  for (std::uint64_t place : places) {
    Bytes table = bytes_of(space, subject, place, kMostNameTable);
    if (table.empty()) continue;
    Shape shape;
    shape.text = TextEnd::zero;
    // In the order of records.
    std::size_t at = 0, in_order = 0;
    while (in_order < rows) {
      auto text = read_text(table, at, shape);
      if (!text) break;
      at += text->taken;
      ++in_order;
    }
    if (in_order == rows && rows >= 3 && place != 0) {
      // Where texts go on, those of the records are some of them by chance.
      bool ends = !grid.complete() || rows < grid.rows() || !read_text(table, at, shape);
      offer({place, std::nullopt,
             ends ? 6.0 * static_cast<double>(std::min<std::size_t>(rows, 12)) : kBitsOfSome});
    }
    for (NumberForm form : kNumberForms) {
      for (std::size_t column = 0; column + form.width <= grid.shape.fixed(); ++column) {
        if (!may_lie(grid, free, column, form)) continue;
        std::size_t fine = 0, asked = 0;
        std::set<std::uint64_t> distinct;
        for (std::size_t row = 0; row < rows; ++row) {
          std::uint64_t value = grid.value(row, column, form);
          ++asked;
          if (value < table.size() && (value == 0 || table[value - 1] == 0) &&
              read_text(table, static_cast<std::size_t>(value), shape)) {
            ++fine;
            distinct.insert(value);
          } else if (asked > 4 + fine * 2) {
            break;
          }
        }
        if (rows < 2 || fine * 20 < rows * 19 || distinct.size() * 2 < rows) continue;
        NameTable found{place, Column{Role::name_at, column, form, form.width},
                        8.0 * static_cast<double>(std::min<std::size_t>(rows, 12))};
        found.bits += form.width == 4 ? 3 : form.width == 8 ? 1 : form.width == 2 ? 2 : 0;
        offer(std::move(found));
      }
    }
  }
  if (best) best->texts = texts_of(*best, grid, bytes_of(space, subject, best->at, kMostNameTable));
  return best;
}

}  // namespace operculum::study
