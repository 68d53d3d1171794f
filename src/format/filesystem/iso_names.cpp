#include "format/filesystem/iso_names.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace operculum::iso {
namespace {

constexpr std::size_t kLongestPlain = 30;   // without the dot and the version (7.5.1)
constexpr std::size_t kLongestJoliet = 64;  // units of UTF-16
constexpr std::size_t kLongestEnding = 8;

std::string plain_letters(std::string_view text) {
  std::string out;
  for (char c : text) {
    bool rest_of_letter = (static_cast<Byte>(c) & 0xC0) == 0x80;  // in UTF-8
    if (rest_of_letter) continue;
    char upper = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
    bool fits = (upper >= 'A' && upper <= 'Z') || (upper >= '0' && upper <= '9') || upper == '_';
    out += fits ? upper : '_';
  }
  return out;
}

struct Parts {
  std::string stem, ending;
};

Parts plain_parts(const std::string& name, bool is_folder) {
  std::size_t dot = is_folder ? std::string::npos : name.rfind('.');
  if (dot == 0) dot = std::string::npos;
  Parts parts{plain_letters(name.substr(0, dot)), ""};
  if (dot != std::string::npos) parts.ending = plain_letters(name.substr(dot + 1)).substr(0, kLongestEnding);
  return parts;
}

Bytes joined(const Parts& parts, const std::string& number, bool is_folder) {
  std::size_t room = kLongestPlain - parts.ending.size() - number.size();
  std::string text = parts.stem.substr(0, room) + number;
  if (!is_folder) text += "." + parts.ending + ";1";
  return {text.begin(), text.end()};
}

Bytes plain(const std::string& name, bool is_folder, const std::set<Bytes>& taken) {
  Parts parts = plain_parts(name, is_folder);
  Bytes made = joined(parts, "", is_folder);
  for (unsigned number = 1; taken.contains(made); ++number)
    made = joined(parts, fmt::format("_{}", number), is_folder);
  return made;
}

Bytes exact_plain(const std::string& name, bool is_folder) {
  Parts parts = plain_parts(name, is_folder);
  std::string possible = parts.ending.empty() ? parts.stem : parts.stem + "." + parts.ending;
  if (possible != name || name.size() > kLongestPlain + 1) {
    throw Unsupported(
        fmt::format("the name \"{}\" on a disc without Rock Ridge and Joliet; \"{}\" is possible",
                    escape(name), possible.substr(0, kLongestPlain)));
  }
  return joined(parts, "", is_folder);
}

std::string wide(const std::string& name) {
  auto units = from_utf8(name, "UTF-16BE");
  return units ? *units : from_utf8(plain_letters(name), "UTF-16BE").value_or("");
}

Bytes joliet(const std::string& name, bool exact, const std::set<Bytes>& taken) {
  constexpr std::string_view kNever = "*/:;?\\";
  std::string clean = name;
  for (char& c : clean) {
    if (static_cast<Byte>(c) < 0x20 || kNever.find(c) != std::string_view::npos) c = '_';
  }
  std::string units = wide(clean);
  if (exact && (clean != name || units.size() > 2 * kLongestJoliet || !from_utf8(name, "UTF-16BE")))
    throw Unsupported(fmt::format("the name \"{}\" in a Joliet tree", escape(name)));
  units.resize(std::min(units.size(), 2 * kLongestJoliet));
  Bytes made(units.begin(), units.end());
  for (unsigned number = 1; taken.contains(made) && !exact; ++number) {
    std::string tail = wide(fmt::format("_{}", number));
    std::string front = units.substr(0, std::min(units.size(), 2 * kLongestJoliet - tail.size()));
    front += tail;
    made.assign(front.begin(), front.end());
  }
  return made;
}

/// A name without its version, and its ending apart.
std::pair<ByteView, ByteView> sorted_parts(ByteView id) {
  auto version = std::find(id.begin(), id.end(), ';');
  auto dot = std::find(id.begin(), version, '.');
  return {{id.begin(), dot}, {dot, version}};
}

int compare_padded(ByteView a, ByteView b) {
  for (std::size_t i = 0; i < std::max(a.size(), b.size()); ++i) {
    int left = i < a.size() ? a[i] : ' ', right = i < b.size() ? b[i] : ' ';
    if (left != right) return left - right;
  }
  return 0;
}

}  // namespace

Bytes identifier_for(const std::string& name, bool is_folder, NameForm form, bool exact,
                     const std::set<Bytes>& taken) {
  if (form == NameForm::joliet) return joliet(name, exact, taken);
  return exact ? exact_plain(name, is_folder) : plain(name, is_folder, taken);
}

bool comes_before(ByteView a, ByteView b, NameForm form) {
  if (form == NameForm::joliet) return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end());
  auto [stem_a, ending_a] = sorted_parts(a);
  auto [stem_b, ending_b] = sorted_parts(b);
  if (int order = compare_padded(stem_a, stem_b)) return order < 0;
  return compare_padded(ending_a, ending_b) < 0;
}

}  // namespace operculum::iso
