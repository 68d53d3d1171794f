#include "io/safe_path.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checksum.h"
#include "base/text.h"

namespace operculum {
namespace {

constexpr std::size_t kLongestPart = 255;   // bytes, on every common Linux file system
constexpr std::size_t kLongestPath = 3800;  // bytes; the kernel stops at 4096 with the folder in front

constexpr std::array<std::string_view, 22> kDeviceNames = {
    "con",  "prn",  "aux",  "nul",  "com1", "com2", "com3", "com4", "com5", "com6", "com7",
    "com8", "com9", "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9"};
constexpr std::string_view kNotPortable = "<>:\"|?*\\";

/// Collects the reasons for changes, each once.
class Reasons {
 public:
  void add(std::string_view reason) {
    if (text_.find(reason) != std::string::npos) return;
    if (!text_.empty()) text_ += ", ";
    text_ += reason;
  }
  std::string take() { return std::move(text_); }

 private:
  std::string text_;
};

bool is_device_name(std::string_view part) {
  std::string stem = to_lower(part.substr(0, part.find('.')));
  return std::find(kDeviceNames.begin(), kDeviceNames.end(), stem) != kDeviceNames.end();
}

bool bad_end(std::string_view part) {
  return part.ends_with('.') || part.ends_with(' ');
}

/// Replaces what steers a terminal or reorders text; bytes that are not UTF-8 stay.
std::string without_steering(std::string_view part) {
  std::string out;
  while (!part.empty()) {
    std::size_t length = 1;
    auto first = static_cast<unsigned char>(part[0]);
    if (first >= 0xc2) {
      length = std::min<std::size_t>(first >= 0xf0 ? 4 : first >= 0xe0 ? 3 : 2, part.size());
      if (!is_utf8(part.substr(0, length))) length = 1;
    }
    std::string_view character = part.substr(0, length);
    bool invalid_byte = length == 1 && first >= 0x80;
    bool steers = !invalid_byte && character != "\\" && escape(character) != character;
    out += steers ? "_" : std::string(character);
    part.remove_prefix(length);
  }
  return out;
}

std::string shortened(std::string_view part) {
  std::string digest = fmt::format("~{:08x}", crc32(0, as_bytes(part)));
  std::size_t dot = part.rfind('.');
  std::string_view ending = dot != std::string_view::npos && part.size() - dot <= 16 ? part.substr(dot) : "";
  std::size_t keep = kLongestPart - digest.size() - ending.size();
  while (keep > 0 && (static_cast<unsigned char>(part[keep]) & 0xc0) == 0x80)
    --keep;  // not within a character
  return std::string(part.substr(0, keep)) + digest + std::string(ending);
}

std::string safe_part(std::string_view part, NameRules rules, Reasons& reasons) {
  std::string out = without_steering(part);
  if (out != part) reasons.add("control characters replaced");
  if (rules == NameRules::portable) {
    for (char& c : out) {
      if (kNotPortable.find(c) == std::string_view::npos) continue;
      c = '_';
      reasons.add("characters other systems refuse replaced");
    }
    if (bad_end(out)) {
      while (bad_end(out)) out.pop_back();
      out += '_';
      reasons.add("dots and blanks at the end replaced");
    }
    if (is_device_name(out)) {
      out.insert(0, "_");
      reasons.add("a reserved device name changed");
    }
  }
  if (out.size() > kLongestPart) {
    out = shortened(out);
    reasons.add("a part of more than 255 bytes shortened");
  }
  return out;
}

bool has_drive(std::string_view path) {
  bool letter = !path.empty() && ((path[0] | 0x20) >= 'a' && (path[0] | 0x20) <= 'z');
  return letter && path.size() >= 3 && path[1] == ':' && (path[2] == '/' || path[2] == '\\');
}

}  // namespace

SafePath make_safe(std::string_view stored, NameRules rules) {
  Reasons reasons;
  std::string out;
  if (has_drive(stored)) {
    stored.remove_prefix(2);
    while (stored.starts_with('\\')) stored.remove_prefix(1);
    reasons.add("the drive left out");
  }
  if (stored.starts_with('/')) reasons.add("the slash in front left out");
  for (std::string_view part : split(stored, '/')) {
    if (part.empty() || part == ".") continue;
    if (part == "..") {
      reasons.add("\"..\" left out");
      continue;
    }
    if (!out.empty()) out += '/';
    out += safe_part(part, rules, reasons);
  }
  if (out.size() > kLongestPath) return {"", "it is longer than any path may be"};
  return {out, reasons.take()};
}

bool is_portable(std::string_view path) {
  for (std::string_view part : split(path, '/')) {
    if (bad_end(part) || is_device_name(part) || part.find_first_of(kNotPortable) != std::string_view::npos)
      return false;
  }
  return true;
}

std::string numbered(std::string_view path, unsigned number) {
  std::size_t slash = path.rfind('/');
  std::size_t name = slash == std::string_view::npos ? 0 : slash + 1;
  std::size_t dot = path.rfind('.');
  if (dot == std::string_view::npos || dot <= name) dot = path.size();
  return fmt::format("{}~{}{}", path.substr(0, dot), number, path.substr(dot));
}

}  // namespace operculum
