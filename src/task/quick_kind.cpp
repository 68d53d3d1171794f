#include "task/quick_kind.h"

#include <algorithm>
#include <array>

#include "base/text.h"

namespace operculum {
namespace {

struct Mark {
  std::string_view mark;
  Glance glance;
};
constexpr Mark kMarks[] = {
    {"\x89PNG\r\n\x1a\n", {"image", "image/png"}},
    {"\xff\xd8\xff\xe0", {"image", "image/jpeg"}},
    {"\xff\xd8\xff\xe1", {"image", "image/jpeg"}},
    {"GIF87a", {"image", "image/gif"}},
    {"GIF89a", {"image", "image/gif"}},
    {"fLaC", {"sound", "audio/flac"}},
    {"wOFF", {"font", ""}},
    {"wOF2", {"font", ""}},
    {"%PDF-1.", {"document", "application/pdf"}},
};

/// Characters that languages of all kinds are known by, and control characters; a table by character.
constexpr std::array<bool, 256> make_telling() {
  std::array<bool, 256> telling{};
  for (std::size_t i = 0; i < 0x20; ++i) telling[i] = i != '\t' && i != '\n' && i != '\r';
  telling[0x7f] = true;
  for (char c : std::string_view("<{}$\\`%@|~^")) telling[static_cast<unsigned char>(c)] = true;
  return telling;
}
constexpr auto kTelling = make_telling();

constexpr std::string_view kTellingPairs[] = {"#!", "--", "/*", "//", "()", ";;"};

/// Words that lines of programs begin with, in small letters and in order.
constexpr std::string_view kTellingWords[] = {
    "begin",   "class",  "const",   "def",       "echo",    "end",    "enum",    "except", "export",
    "extern",  "for",    "from",    "function",  "goto",    "if",     "import",  "int",    "let",
    "local",   "module", "my",      "namespace", "package", "print",  "private", "proc",   "public",
    "puts",    "rem",    "require", "return",    "set",     "static", "struct",  "sub",    "try",
    "typedef", "unless", "use",     "var",       "void",    "while",  "with"};

bool is_letter(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
}

/// The first word of a line; empty where it begins with something else.
std::string_view first_word(std::string_view line) {
  std::size_t begin = line.find_first_not_of(" \t");
  if (begin == std::string_view::npos) return {};
  std::size_t end = begin;
  while (end < line.size() && is_letter(line[end])) ++end;
  return line.substr(begin, end - begin);
}

bool begins_like_a_program(std::string_view line) {
  std::string_view word = first_word(line);
  constexpr std::size_t kLongest = 9;
  if (word.empty() || word.size() > kLongest) return false;
  std::string lower = to_lower(word);
  return std::binary_search(std::begin(kTellingWords), std::end(kTellingWords), std::string_view(lower));
}

/// UTF-8, whose last character may be cut where more follows.
bool is_text(std::string_view text, bool whole) {
  if (is_utf8(text)) return true;
  for (std::size_t cut = 1; !whole && cut <= 3 && cut < text.size(); ++cut)
    if (is_utf8(text.substr(0, text.size() - cut))) return true;
  return false;
}

bool are_plain_words(std::string_view text, bool whole) {
  constexpr std::size_t kFewest = 8;  // bytes: shorter ones are the marks of many things
  if (text.size() < kFewest || !is_letter(text.front())) return false;
  bool number =
      std::all_of(text.begin(), text.begin() + kFewest, [](char c) { return c >= '0' && c <= '9'; });
  if (number || text.starts_with("07070")) return false;  // headers of archives are numbers in digits
  if (text[0] == 'P' && text[1] >= '1' && text[1] <= '7') return false;  // pictures of numbers in digits
  if (std::any_of(text.begin(), text.end(), [](char c) { return kTelling[static_cast<unsigned char>(c)]; }))
    return false;
  if (std::any_of(std::begin(kTellingPairs), std::end(kTellingPairs),
                  [&](std::string_view pair) { return text.find(pair) != std::string_view::npos; }))
    return false;
  if (!is_text(text, whole)) return false;
  for (std::size_t at = 0; at < text.size();) {
    std::size_t end = std::min(text.find_first_of("\r\n", at), text.size());
    if (begins_like_a_program(text.substr(at, end - at))) return false;
    at = end + 1;
  }
  return text.find_first_of(" \t\n,") != std::string_view::npos;  // one long word may be a mark
}

/// Mail, news, tables and the like have a type of their own: they are known by the first line, or by the same
/// count of commas in each.
bool may_be_a_form_of_text(std::string_view text) {
  std::string_view line = text.substr(0, std::min(text.find_first_of("\r\n"), text.size()));
  return line.find_first_of(":,;=") != std::string_view::npos;
}

}  // namespace

std::optional<Glance> quick_kind(ByteView head, bool whole) {
  std::string_view text = as_text(head);
  for (const Mark& one : kMarks)
    if (text.starts_with(one.mark)) return one.glance;
  if (!are_plain_words(text, whole)) return std::nullopt;
  return Glance{"text", may_be_a_form_of_text(text) ? "" : "text/plain"};
}

}  // namespace operculum
