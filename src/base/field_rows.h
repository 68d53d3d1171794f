#pragma once

#include <string>
#include <vector>

#include "base/field_row.h"
#include "base/structure.h"

namespace operculum {

/// A number in decimal digits, in hexadecimal ones, too, where they differ.
std::string field_value(std::uint64_t number);
/// Bytes as the text that they are, else as hexadecimal digits; filling behind them is left out.
std::string field_value(ByteView bytes);

/// All fields of a structure, out of bytes that are known to be there; `base` is where they lie in the file.
template <typename S>
std::vector<FieldRow> field_rows(const Byte* bytes, std::uint64_t base, std::endian order) {
  S structure = read_structure<S>(bytes, order);
  std::vector<FieldRow> rows;
  S::layout.each([&](const auto& part, std::size_t at) OPERCULUM_FOR_EACH_FIELD {
    rows.push_back({part.name, base + at, part.width, field_value(structure.*(part.member))});
  });
  return rows;
}

}  // namespace operculum
