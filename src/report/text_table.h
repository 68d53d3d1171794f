#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/shown.h"

namespace operculum {

/// What stands in a table: anybody's words, made printable.
struct Cell : Shown {
  Cell(Shown text) : Shown(std::move(text)) {}
  Cell(const std::string& untrusted) : Shown(std::string_view(untrusted)) {}
  Cell(std::string_view untrusted) : Shown(untrusted) {}
  Cell(const char* untrusted) : Shown(std::string_view(untrusted)) {}
};

/// Rows of text in columns as wide as their widest cell. Widths count terminal columns, not bytes.
class TextTable {
 public:
  enum class Align { left, right };
  struct Column {
    std::string title;
    Align align = Align::left;
  };

  explicit TextTable(std::vector<Column> columns) : columns_(std::move(columns)) {}
  void add(std::vector<Cell> cells) { rows_.push_back(std::move(cells)); }
  Shown text() const;  ///< with a line of titles, each line ended

 private:
  std::vector<Column> columns_;
  std::vector<std::vector<Cell>> rows_;
};

/// Words of `text` in lines of `width` columns at most; lines behind the first begin with `indent` blanks.
std::string wrapped(std::string_view text, std::size_t width, std::size_t indent);

/// Pads `text` with blanks to `width` terminal columns.
std::string padded(const std::string& text, std::size_t width,
                   TextTable::Align align = TextTable::Align::left);

}  // namespace operculum
