// Texts of strangers: names, patterns, what is typed as a time or a size, and what reports make of them.
// Nothing that comes out may steer a terminal, leave a folder or end a page's markup.
#include <algorithm>
#include <stdexcept>

#include "base/glob.h"
#include "base/text.h"
#include "base/time.h"
#include "base/units.h"
#include "collection/text_diff.h"
#include "fuzz/target.h"
#include "io/safe_path.h"
#include "report/html.h"

namespace operculum::fuzz {
namespace {

void must(bool holds, const char* what) {
  if (!holds) throw std::logic_error(what);
}

bool steers(std::string_view text) {
  return std::any_of(text.begin(), text.end(),
                     [](char c) { return static_cast<unsigned char>(c) < 0x20 || c == 0x7f; });
}

void look_at_names(ByteView bytes) {
  std::string text(as_text(bytes));
  std::string escaped = escape(text);
  must(!steers(escaped), "an escaped text steers a terminal");
  must(unescape(escaped) == text, "an escaped text is not what it was");
  for (NameRules rules : {NameRules::here, NameRules::portable}) {
    SafePath safe = make_safe(text, rules);
    must(!safe.path.starts_with('/') && safe.path.find("//") == std::string::npos, "a safe path is absolute");
    for (std::string_view part : split(safe.path, '/'))
      must(part != ".." && part != ".", "a safe path climbs");
    must(make_safe(safe.path, rules).path == safe.path, "a safe path is not safe");
  }
  std::string page = html(text);
  must(page.find('<') == std::string::npos && page.find('"') == std::string::npos, "a page's markup ends");
}

/// The input is a pattern and a path, with a line end between them.
void match_patterns(ByteView bytes) {
  std::string_view text = as_text(bytes);
  std::size_t end = std::min(text.find('\n'), text.size());
  std::string pattern(text.substr(0, std::min<std::size_t>(end, 200)));
  std::string path(text.substr(std::min(text.size(), end + 1)).substr(0, 400));
  Glob(pattern).matches(path);
  Glob(pattern, Glob::Case::ignored).matches(path);
  parse_time(pattern);
  parse_size(pattern);
  parse_number(pattern);
}

/// Two texts with a zero byte between them.
void compare_texts(ByteView bytes) {
  std::string_view text = as_text(bytes.first(std::min<std::size_t>(bytes.size(), 20'000)));
  std::size_t end = std::min(text.find('\0'), text.size());
  if (auto diff = diff_texts(text.substr(0, end), text.substr(std::min(text.size(), end + 1))))
    unified(*diff);
}

}  // namespace

std::vector<Target> text_targets() {
  return {{"names", look_at_names}, {"patterns", match_patterns}, {"text-diff", compare_texts}};
}

}  // namespace operculum::fuzz
