#include "report/text_table.h"

#include <algorithm>

#include "base/text.h"

namespace operculum {

std::string padded(const std::string& text, std::size_t width, TextTable::Align align) {
  std::size_t used = display_width(text);
  std::string blanks(width > used ? width - used : 0, ' ');
  return align == TextTable::Align::left ? text + blanks : blanks + text;
}

std::string wrapped(std::string_view text, std::size_t width, std::size_t indent) {
  std::string out;
  std::size_t used = indent;
  for (std::string_view word : split(text, ' ')) {
    std::size_t columns = display_width(word);
    if (used > indent && used + 1 + columns > width) {
      out += '\n' + std::string(indent, ' ');
      used = indent;
    } else if (used > indent) {
      out += ' ';
      ++used;
    }
    out += word;
    used += columns;
  }
  return out;
}

Shown TextTable::text() const {
  std::vector<std::size_t> widths;
  for (std::size_t i = 0; i < columns_.size(); ++i) {
    std::size_t width = display_width(columns_[i].title);
    for (const auto& row : rows_) width = std::max(width, display_width(row[i].text()));
    widths.push_back(width);
  }
  std::string out;
  auto line = [&](auto cell) {
    std::string text;
    for (std::size_t i = 0; i < columns_.size(); ++i)
      text += padded(cell(i), widths[i], columns_[i].align) + "  ";
    text.erase(text.find_last_not_of(' ') + 1);
    out += text + '\n';
  };
  line([&](std::size_t i) { return columns_[i].title; });
  for (const auto& row : rows_) line([&](std::size_t i) { return row[i].text(); });
  return Shown::made(std::move(out));
}

}  // namespace operculum
