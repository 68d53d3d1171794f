#include "study/text_test.h"

#include <algorithm>
#include <cctype>

namespace operculum::study {

bool is_tag(ByteView bytes, std::string_view filling) {
  std::string_view text = as_text(bytes);
  text = text.substr(0, text.find_last_not_of(filling) + 1);
  return !text.empty() && std::all_of(text.begin(), text.end(),
                                      [](unsigned char c) { return std::isalnum(c) != 0 || c == '_'; });
}

bool is_name(std::string_view text) {
  constexpr std::size_t kLong = 12;  // from there on most of its bytes are not like the one in front
  if (text.empty() || text.size() > kMostName) return false;
  std::size_t plain = 0, alike = 0;
  bool word = false;
  char before = '\0';
  for (char c : text) {
    Byte byte = static_cast<Byte>(c);
    if (!is_name_byte(byte)) return false;
    alike += c == before && c != ' ' ? 1 : 0;
    before = c;
    plain += byte < 0x80 ? 1 : 0;
    word = word || byte >= 0x80 || std::isalnum(byte) != 0;
  }
  return word && plain * 2 >= text.size() && (text.size() < kLong || alike * 2 <= text.size());
}

bool is_wide_name(std::string_view text) {
  for (std::size_t i = 0; i + 1 < text.size(); i += 2) {
    if (!is_ascii_name_byte(static_cast<Byte>(text[i])) || text[i + 1] != '\0') return false;
  }
  return text.size() >= 2;
}

const std::vector<Shape>& name_shapes() {
  static const std::vector<Shape> kShapes = [] {
    std::vector<Shape> all(1);
    all[0].text = TextEnd::zero;
    for (NumberForm form : {NumberForm{1, false}, {2, false}, {2, true}, {4, false}, {4, true}}) {
      for (unsigned unit : {1u, 2u}) {
        Shape sized;
        sized.text = TextEnd::sized;
        sized.length = form;
        sized.unit = unit;
        all.push_back(sized);
      }
    }
    return all;
  }();
  return kShapes;
}

std::optional<RecordText> read_text(ByteView bytes, std::size_t at, const Shape& shape) {
  if (at >= bytes.size()) return std::nullopt;
  if (shape.text == TextEnd::zero) {
    std::string_view rest = as_text(bytes.subspan(at, std::min(bytes.size() - at, kMostName + 1)));
    std::size_t length = rest.find('\0');
    if (length == std::string_view::npos || !is_name(rest.substr(0, length))) return std::nullopt;
    return RecordText{rest.substr(0, length), length + 1};
  }
  if (bytes.size() - at < shape.length.width) return std::nullopt;
  std::uint64_t length = read_number(bytes.data() + at, shape.length);
  at += shape.length.width;
  if (length == 0 || length > kMostName || length * shape.unit > bytes.size() - at) return std::nullopt;
  length *= shape.unit;
  RecordText found{as_text(bytes.subspan(at, static_cast<std::size_t>(length))),
                   shape.length.width + static_cast<std::size_t>(length)};
  if (shape.unit == 2) return is_wide_name(found.text) ? std::optional(found) : std::nullopt;
  while (!found.text.empty() && found.text.back() == '\0') found.text.remove_suffix(1);
  return is_name(found.text) ? std::optional(found) : std::nullopt;
}

std::optional<std::size_t> read_other_text(ByteView bytes, std::size_t at) {
  if (at >= bytes.size()) return std::nullopt;
  if (bytes[at] == 0) return 1;
  static const Shape kEnded = name_shapes().front();
  auto text = read_text(bytes, at, kEnded);
  return text ? std::optional(text->taken) : std::nullopt;
}

bool is_inside_text(ByteView bytes, std::size_t at) {
  std::size_t printed = 0;
  while (printed < at && printed <= kMostLikeLetters && is_ascii_name_byte(bytes[at - 1 - printed]))
    ++printed;
  return printed > kMostLikeLetters;
}

}  // namespace operculum::study
