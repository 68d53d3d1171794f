// Texts of strangers: names, patterns, what is typed as a time or a size, and what reports make of them.
// Nothing that comes out may steer a terminal, leave a folder or end a page's markup.
#include <algorithm>
#include <stdexcept>

#include "base/glob.h"
#include "base/text.h"
#include "base/time.h"
#include "base/units.h"
#include "collection/content_search.h"
#include "collection/text_diff.h"
#include "fuzz/target.h"
#include "io/safe_path.h"
#include "report/html.h"

namespace operculum::fuzz {
namespace {

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

std::vector<std::uint64_t> places(const Needles& needles, ByteView bytes, std::size_t piece) {
  ContentSearch search(needles, 1000);
  for (std::size_t at = 0; at < bytes.size(); at += piece)
    search.add(bytes.subspan(at, std::min(piece, bytes.size() - at)));
  search.finish();
  std::vector<std::uint64_t> all;
  for (const ContentHit& hit : search.hits()) all.push_back(hit.at);
  return all;
}

/// How large the pieces are that the bytes come in, what is looked for, a line end, and the bytes.
void search_contents(ByteView bytes) {
  if (bytes.size() < 3) return;
  std::size_t piece = bytes[0] + 1u;
  auto letters = (bytes[1] & 1) != 0 ? Glob::Case::ignored : Glob::Case::exact;
  std::string_view all = as_text(bytes.subspan(2)),
                   sought = all.substr(0, std::min<std::size_t>(all.find('\n'), 60));
  ByteView where = bytes.subspan(std::min(bytes.size(), 2 + sought.size() + 1));
  if (sought.empty()) return;
  Needles texts, plain;
  texts.add_text(std::string(sought), letters);
  plain.add_bytes(Bytes(sought.begin(), sought.end()));
  must(places(texts, where, piece) == places(texts, where, where.size() + 1), "texts in pieces and in one");
  std::vector<std::uint64_t> found = places(plain, where, piece), expected;
  for (std::size_t at = 0; expected.size() < 1000;) {
    at = as_text(where).find(sought, at);
    if (at == std::string_view::npos) break;
    expected.push_back(at++);
  }
  must(!expected.empty() == !found.empty(), "bytes are found where they are");
  for (std::uint64_t at : found) must(as_text(where).substr(at).starts_with(sought), "a hit is none");
}

}  // namespace

std::vector<Target> text_targets() {
  return {{"names", look_at_names},
          {"patterns", match_patterns},
          {"text-diff", compare_texts},
          {"content-search", search_contents}};
}

}  // namespace operculum::fuzz
