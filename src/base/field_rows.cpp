#include "base/field_rows.h"

#include <algorithm>

#include "base/hex_text.h"
#include "base/text.h"

namespace operculum {

std::string field_value(std::uint64_t number) {
  return number < 10 ? std::to_string(number) : fmt::format("{} ({:#x})", number, number);
}

std::string field_value(ByteView bytes) {
  std::size_t length = bytes.size();
  while (length > 0 && bytes[length - 1] == 0) --length;
  std::string_view text = as_text(bytes.first(length));
  while (text.ends_with(' ')) text.remove_suffix(1);
  bool readable = std::all_of(text.begin(), text.end(), [](char c) { return c >= ' ' && c <= '~'; });
  return readable ? fmt::format("\"{}\"", text) : hex_text(bytes.first(length));
}

}  // namespace operculum
