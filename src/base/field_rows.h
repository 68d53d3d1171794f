#pragma once

#include <string>
#include <vector>

#include "base/structure.h"

namespace operculum {

/// A field of a structure as a file has it.
struct FieldRow {
  std::string_view name;   ///< in the specification
  std::uint64_t at = 0;    ///< offset in the file
  std::size_t width = 0;   ///< in bytes
  std::string value = {};  ///< "8192 (0x2000)"; of bytes their text, else digits
};

/// A number in decimal digits, in hexadecimal ones, too, where they differ.
std::string field_value(std::uint64_t number);
/// Bytes as the text that they are, else as hexadecimal digits; filling behind them is left out.
std::string field_value(ByteView bytes);

/// All fields of a structure, out of bytes that are known to be there; `base` is where they lie in the file.
template <typename S>
std::vector<FieldRow> field_rows(const Byte* bytes, std::uint64_t base) {
  S structure = read_structure<S>(bytes);
  std::vector<FieldRow> rows;
  S::layout.each([&](const auto& part, std::size_t at) OPERCULUM_FOR_EACH_FIELD {
    rows.push_back({part.name, base + at, part.width, field_value(structure.*(part.member))});
  });
  return rows;
}

}  // namespace operculum
