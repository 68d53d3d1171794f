#include "base/readable_text.h"

#include <algorithm>

#include "base/text.h"

namespace operculum {
namespace {

enum class Encoding { utf8, utf16_little, utf16_big, windows, none };

Encoding encoding_of(ByteView bytes) {
  if (starts_with(bytes, "\xff\xfe")) return Encoding::utf16_little;
  if (starts_with(bytes, "\xfe\xff")) return Encoding::utf16_big;
  std::size_t zeros_even = 0, zeros_odd = 0, control = 0;
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    Byte b = bytes[i];
    if (b == 0) ++(i % 2 == 0 ? zeros_even : zeros_odd);
    bool layout = b == '\n' || b == '\r' || b == '\t' || b == '\f' || b == 0x1b;
    if (b < 0x20 && b != 0 && !layout) ++control;
  }
  if (control * 50 > bytes.size()) return Encoding::none;
  if (zeros_odd > bytes.size() / 4 && zeros_even == 0) return Encoding::utf16_little;
  if (zeros_even > bytes.size() / 4 && zeros_odd == 0) return Encoding::utf16_big;
  if (zeros_even + zeros_odd > 0) return Encoding::none;
  std::string_view text = as_text(bytes);
  for (std::size_t cut = 0; cut < 4 && cut < text.size(); ++cut) {  // the last character may be cut
    if (is_utf8(text.substr(0, text.size() - cut))) return Encoding::utf8;
  }
  if (text.empty()) return Encoding::utf8;
  auto high =
      static_cast<std::size_t>(std::count_if(bytes.begin(), bytes.end(), [](Byte b) { return b >= 0x80; }));
  return high * 3 < bytes.size() ? Encoding::windows : Encoding::none;
}

}  // namespace

bool looks_like_text(ByteView head) {
  return encoding_of(head) != Encoding::none;
}

std::string readable_text(ByteView bytes) {
  std::string text(as_text(bytes));
  switch (encoding_of(bytes)) {
    case Encoding::utf16_little:
      text = to_utf8(text.substr(0, text.size() & ~std::size_t{1}), "UTF-16LE").value_or(text);
      break;
    case Encoding::utf16_big:
      text = to_utf8(text.substr(0, text.size() & ~std::size_t{1}), "UTF-16BE").value_or(text);
      break;
    case Encoding::windows:
      text = to_utf8(text, "CP1252").value_or(to_utf8(text, "ISO-8859-1").value_or(text));
      break;
    default:
      break;
  }
  if (text.starts_with("\xef\xbb\xbf")) text.erase(0, 3);
  std::string out;
  std::size_t begin = 0;
  auto keep = [](char c) { return c == '\n' || c == '\t' || c == '\r' || c == '\\'; };
  for (std::size_t i = 0; i <= text.size(); ++i) {  // runs between what stays as it is
    if (i < text.size() && !keep(text[i])) continue;
    out += escape(std::string_view(text).substr(begin, i - begin));
    if (i < text.size() && text[i] != '\r') out += text[i];
    begin = i + 1;
  }
  return out;
}

}  // namespace operculum
