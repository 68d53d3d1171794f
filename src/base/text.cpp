#include "base/text.h"

#include <fmt/format.h>
#include <iconv.h>
#include <wchar.h>

#include <algorithm>
#include <cerrno>
#include <charconv>
#include <cstdint>
#include <cstring>

#include "base/error.h"

namespace operculum {
namespace {

struct CodePoint {
  char32_t value;
  std::size_t length;  // in bytes; 0 when the bytes are not UTF-8
};

CodePoint decode(std::string_view text) {
  auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  unsigned first = byte(0);
  if (first < 0x80) return {first, 1};
  std::size_t length = first >= 0xf0 ? 4 : first >= 0xe0 ? 3 : 2;
  if (first < 0xc2 || first > 0xf4 || text.size() < length) return {0, 0};
  char32_t value = first & (0x7f >> length);
  for (std::size_t i = 1; i < length; ++i) {
    if ((byte(i) & 0xc0) != 0x80) return {0, 0};
    value = (value << 6) | (byte(i) & 0x3f);
  }
  bool overlong = (length == 3 && value < 0x800) || (length == 4 && value < 0x10000);
  bool surrogate = value >= 0xd800 && value <= 0xdfff;
  if (overlong || surrogate || value > 0x10ffff) return {0, 0};
  return {value, length};
}

/// Characters that steer a terminal, reorder what a person reads, or cannot be seen at all, so that two names
/// look alike. The joiners U+200C and U+200D stay: whole scripts need them.
bool is_steering(char32_t c) {
  bool invisible = c == 0xAD || c == 0x34F || c == 0x115F || c == 0x1160 || c == 0x17B4 || c == 0x17B5 ||
                   (c >= 0x180B && c <= 0x180E) || c == 0x200B || (c >= 0x2060 && c <= 0x2064) ||
                   (c >= 0x206A && c <= 0x206F) || c == 0x3164 || c == 0xFFA0 ||
                   (c >= 0xFFF9 && c <= 0xFFFB) || (c >= 0xE0000 && c <= 0xE007F);
  return invisible || c < 0x20 || (c >= 0x7f && c < 0xa0) || c == 0x061c || c == 0x200e || c == 0x200f ||
         (c >= 0x2028 && c <= 0x202e) || (c >= 0x2066 && c <= 0x2069) || c == 0xfeff;
}

class Converter {
 public:
  Converter(const std::string& encoding, const std::string& to)
      : handle_(iconv_open(to.c_str(), encoding.c_str())) {
    if (reinterpret_cast<std::intptr_t>(handle_) == -1) {
      throw Unsupported(
          fmt::format("text encoding \"{}\"; `iconv -l` lists the names this machine knows", encoding));
    }
  }
  ~Converter() { iconv_close(handle_); }
  Converter(const Converter&) = delete;
  Converter& operator=(const Converter&) = delete;
  /// Nothing when something has no meaning, or no place, in the other encoding.
  std::optional<std::string> convert(std::string_view raw) const {
    std::string out(raw.size() * 4 + 8, '\0');
    char* from = const_cast<char*>(raw.data());  // iconv's signature; it does not write there
    std::size_t from_left = raw.size();
    char* to = out.data();
    std::size_t to_left = out.size();
    if (iconv(handle_, &from, &from_left, &to, &to_left) == static_cast<std::size_t>(-1)) return std::nullopt;
    out.resize(out.size() - to_left);
    return out;
  }

 private:
  iconv_t handle_;
};

}  // namespace

// Sixteen characters at a time: listings ask these of a million names.
namespace {

using Sixteen =
    unsigned char __attribute__((vector_size(16)));  // GCC and Clang make one instruction of each operation

/// Whether `test` finds something in any sixteen characters; the last sixteen overlap those before them.
template <typename Test>
bool anywhere(std::string_view text, const Test& test) {
  auto found_in = [&](std::size_t at, std::size_t count) {
    Sixteen part = {32, 32, 32, 32, 32, 32, 32, 32,
                    32, 32, 32, 32, 32, 32, 32, 32};  // blanks, for shorter texts
    std::memcpy(&part, text.data() + at, count);
    auto found = test(part);
    std::uint64_t halves[2];
    std::memcpy(halves, &found, sizeof halves);
    return halves[0] | halves[1];
  };
  if (text.empty()) return false;
  if (text.size() < 16) return found_in(0, text.size()) != 0;
  std::uint64_t found = found_in(text.size() - 16, 16);
  for (std::size_t at = 0; at + 16 < text.size(); at += 16) found |= found_in(at, 16);
  return found != 0;
}

}  // namespace

bool is_ascii(std::string_view text) {
  return !anywhere(text, [](Sixteen part) { return part > 0x7F; });
}

bool is_plain(std::string_view text) {
  return !anywhere(text, [](Sixteen part) { return (part < 0x20) | (part > 0x7E) | (part == '\\'); });
}

bool is_utf8(std::string_view text) {
  while (!text.empty()) {
    std::size_t length = decode(text).length;
    if (length == 0) return false;
    text.remove_prefix(length);
  }
  return true;
}

std::optional<std::string> to_utf8(std::string_view raw, const std::string& encoding) {
  return Converter(encoding, "UTF-8").convert(raw);
}

std::optional<std::string> from_utf8(std::string_view text, const std::string& encoding) {
  return Converter("UTF-8", encoding).convert(text);
}

void require_encoding(const std::string& encoding) {
  Converter check(encoding, "UTF-8");
}

std::string escape(std::string_view text) {
  if (is_plain(text)) return std::string(text);
  std::string out;
  while (!text.empty()) {
    CodePoint point = decode(text);
    if (point.length == 0) {
      out += fmt::format("\\x{:02x}", static_cast<unsigned char>(text[0]));
      text.remove_prefix(1);
      continue;
    }
    if (point.value == '\\') {
      out += "\\\\";
    } else if (point.value == '\n') {
      out += "\\n";
    } else if (is_steering(point.value)) {
      out += point.value < 0x80      ? fmt::format("\\x{:02x}", static_cast<unsigned>(point.value))
             : point.value < 0x10000 ? fmt::format("\\u{:04x}", static_cast<unsigned>(point.value))
                                     : fmt::format("\\U{:08x}", static_cast<unsigned>(point.value));
    } else {
      out += text.substr(0, point.length);
    }
    text.remove_prefix(point.length);
  }
  return out;
}

std::optional<std::string> unescape(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\\') {
      out += text[i];
      continue;
    }
    if (++i == text.size()) return std::nullopt;
    char letter = text[i];
    if (letter == '\\' || letter == 'n') {
      out += letter == 'n' ? '\n' : '\\';
      continue;
    }
    std::size_t digits = letter == 'x' ? 2 : letter == 'u' ? 4 : letter == 'U' ? 8 : 0;
    auto value = digits == 0 ? std::nullopt : parse_number(text.substr(i + 1, digits), 16);
    if (!value || text.size() - i - 1 < digits) return std::nullopt;
    i += digits;
    if (*value > 0x10FFFF) return std::nullopt;
    if (letter == 'x') {
      out += static_cast<char>(*value);
    } else if (*value >= 0x10000) {
      out += static_cast<char>(0xf0 | (*value >> 18));
      out += static_cast<char>(0x80 | ((*value >> 12) & 0x3f));
      out += static_cast<char>(0x80 | ((*value >> 6) & 0x3f));
      out += static_cast<char>(0x80 | (*value & 0x3f));
    } else if (*value < 0x800) {
      out += static_cast<char>(0xc0 | (*value >> 6));
      out += static_cast<char>(0x80 | (*value & 0x3f));
    } else {
      out += static_cast<char>(0xe0 | (*value >> 12));
      out += static_cast<char>(0x80 | ((*value >> 6) & 0x3f));
      out += static_cast<char>(0x80 | (*value & 0x3f));
    }
  }
  return out;
}

std::string shell_word(std::string_view word) {
  constexpr std::string_view kSafe =
      "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./,+@%:=";
  if (!word.empty() && word.find_first_not_of(kSafe) == std::string_view::npos) return std::string(word);
  std::string seen = escape(word);
  bool unseen = std::count(seen.begin(), seen.end(), '\\') != 2 * std::count(word.begin(), word.end(), '\\');
  std::string out = unseen ? "$'" : "'";
  for (char c : unseen ? std::string_view(seen) : word) {
    if (c == '\'') out += unseen ? "\\'" : "'\\''";
    if (c != '\'') out += c;
  }
  return out + "'";
}

std::string to_hex(ByteView bytes) {
  static constexpr char kDigits[] = "0123456789abcdef";
  std::string out;
  out.reserve(bytes.size() * 2);
  for (Byte b : bytes) {
    out += kDigits[b >> 4];
    out += kDigits[b & 15];
  }
  return out;
}

std::string printable(std::string_view text) {
  std::string result;
  for (std::size_t at = 0; at <= text.size();) {
    std::size_t end = std::min(text.find_first_of("\\\t\r\n", at), text.size());
    result += escape(text.substr(at, end - at));
    if (end < text.size() && text[end] != '\r') result += text[end] == '\n' ? ' ' : text[end];
    at = end + 1;
  }
  return result;
}

std::optional<Bytes> from_hex(std::string_view digits) {
  if (digits.size() % 2 != 0) return std::nullopt;
  Bytes bytes;
  for (std::size_t i = 0; i < digits.size(); i += 2) {
    auto value = parse_number(digits.substr(i, 2), 16);
    if (!value) return std::nullopt;
    bytes.push_back(static_cast<Byte>(*value));
  }
  return bytes;
}

Bytes from_base64(std::string_view text) {
  Bytes out;
  std::uint32_t bits = 0;
  unsigned count = 0;
  static constexpr std::string_view kDigits =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  for (char c : text) {
    std::size_t value = kDigits.find(c);
    if (value == std::string_view::npos) continue;  // blanks and padding
    bits = (bits << 6) | static_cast<std::uint32_t>(value);
    if (++count % 4 == 0) {
      for (int shift : {16, 8, 0}) out.push_back(static_cast<Byte>(bits >> shift));
    }
  }
  if (count % 4 == 2) out.push_back(static_cast<Byte>(bits >> 4));
  if (count % 4 == 3) {
    out.push_back(static_cast<Byte>(bits >> 10));
    out.push_back(static_cast<Byte>(bits >> 2));
  }
  return out;
}

std::size_t display_width(std::string_view text) {
  if (is_plain(text)) return text.size();
  std::size_t width = 0;
  while (!text.empty()) {
    CodePoint point = decode(text);
    int columns = point.length == 0 ? 1 : wcwidth(static_cast<wchar_t>(point.value));
    width += columns < 0 ? 1 : static_cast<std::size_t>(columns);
    text.remove_prefix(std::max<std::size_t>(point.length, 1));
  }
  return width;
}

std::vector<std::string_view> split(std::string_view text, char separator) {
  std::vector<std::string_view> parts;
  for (;;) {
    std::size_t end = text.find(separator);
    parts.push_back(text.substr(0, end));
    if (end == std::string_view::npos) return parts;
    text.remove_prefix(end + 1);
  }
}

std::string_view trim(std::string_view text) {
  constexpr std::string_view kBlanks = " \t\r\n";
  std::size_t begin = text.find_first_not_of(kBlanks);
  if (begin == std::string_view::npos) return {};
  return text.substr(begin, text.find_last_not_of(kBlanks) - begin + 1);
}

std::string to_lower(std::string_view text) {
  std::string out(text);
  for (char& c : out) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c + ('a' - 'A'));
  }
  return out;
}

std::optional<std::uint64_t> parse_number(std::string_view digits, int base) {
  std::uint64_t value = 0;
  auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), value, base);
  if (error != std::errc{} || end != digits.data() + digits.size()) return std::nullopt;
  return value;
}

}  // namespace operculum
