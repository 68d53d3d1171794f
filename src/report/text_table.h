#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace operculum {

/// Rows of text in columns as wide as their widest cell. Widths count terminal columns, not bytes.
class TextTable {
 public:
  enum class Align { left, right };
  struct Column {
    std::string title;
    Align align = Align::left;
  };

  explicit TextTable(std::vector<Column> columns) : columns_(std::move(columns)) {}
  void add(std::vector<std::string> cells) { rows_.push_back(std::move(cells)); }
  std::string text() const;  ///< with a line of titles, each line ended

 private:
  std::vector<Column> columns_;
  std::vector<std::vector<std::string>> rows_;
};

/// Words of `text` in lines of `width` columns at most; lines behind the first begin with `indent` blanks.
std::string wrapped(std::string_view text, std::size_t width, std::size_t indent);

/// Pads `text` with blanks to `width` terminal columns.
std::string padded(const std::string& text, std::size_t width,
                   TextTable::Align align = TextTable::Align::left);

}  // namespace operculum
