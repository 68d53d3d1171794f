#pragma once

#include <string>
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

/// Pads `text` with blanks to `width` terminal columns.
std::string padded(const std::string& text, std::size_t width,
                   TextTable::Align align = TextTable::Align::left);

}  // namespace operculum
