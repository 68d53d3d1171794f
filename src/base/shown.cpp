#include "base/shown.h"

#include <algorithm>
#include <cassert>

namespace operculum {
namespace {

/// Behind a style of a terminal, "ESC [ digits and semicolons m"; where there is none, where it would be.
std::size_t behind_style(std::string_view text, std::size_t at) {
  if (!text.substr(at).starts_with("\x1b[")) return at;
  std::size_t end = text.find_first_not_of("0123456789;", at + 2);
  return end != std::string_view::npos && text[end] == 'm' ? end + 1 : at;
}

/// Whether nothing is there that printable() would change, but line ends, tabs and styles.
[[maybe_unused]] bool is_harmless(std::string_view text) {
  std::string rest;
  for (std::size_t at = 0; at < text.size();) {
    std::size_t behind = behind_style(text, at);
    if (behind == at && text[at] != '\n' && text[at] != '\r') rest += text[at];
    at = std::max(behind, at + 1);
  }
  return printable(rest) == rest;
}

}  // namespace

Shown Shown::made(std::string safe) {
  assert(is_harmless(safe));
  Shown out;
  out.text_ = std::move(safe);
  return out;
}

Shown Shown::lines(std::string_view untrusted) {
  Shown out;
  for (std::string_view line : split(untrusted, '\n')) {
    if (line.data() != untrusted.data()) out.text_ += '\n';
    out.text_ += printable(line);
  }
  return out;
}

}  // namespace operculum
