#include "base/field_rows.h"

#include <algorithm>

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
  if (readable) return fmt::format("\"{}\"", text);
  std::string digits;
  for (Byte b : bytes.first(length)) digits += fmt::format("{}{:02x}", digits.empty() ? "" : " ", b);
  return digits;
}

}  // namespace operculum
