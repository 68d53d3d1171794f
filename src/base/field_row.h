#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <string_view>

namespace operculum {

/// A field of a structure as a file has it.
struct FieldRow {
  std::string_view name;   ///< in the specification
  std::uint64_t at = 0;    ///< offset in the file
  std::size_t width = 0;   ///< in bytes
  std::string value = {};  ///< "8192 (0x2000)"; of bytes their text, else digits
};

}  // namespace operculum
