#include "study/draft_text.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/path_parts.h"
#include "base/text.h"
#include "study/text_test.h"

namespace operculum::study {

/// Bytes as the language writes them: a text where they can be read, else in hexadecimal.
std::string literal(ByteView bytes) {
  bool text = std::all_of(bytes.begin(), bytes.end(), [](Byte b) {
    return is_ascii_name_byte(b) || b == 0 || b == 0x1a || b == '\n' || b == '\r';
  });
  if (!text) return fmt::format("hex \"{}\"", to_hex(bytes));
  std::string out = "\"";
  for (Byte byte : bytes) {
    if (byte == '"' || byte == '\\')
      out += fmt::format("\\{}", static_cast<char>(byte));
    else if (byte == '{' || byte == '}')
      out += fmt::format("\\x{:02x}", byte);
    else if (is_ascii_name_byte(byte))
      out += static_cast<char>(byte);
    else
      out += fmt::format("\\x{:02x}", byte);
  }
  return out + "\"";
}

std::size_t magic_of(ByteView bytes) {
  std::size_t printed = 0;
  while (printed < bytes.size() && is_ascii_name_byte(bytes[printed])) ++printed;
  if (printed < 3) return std::min<std::size_t>(bytes.size(), 4);
  bool ended = printed < bytes.size() && (bytes[printed] == 0 || bytes[printed] == 0x1a);
  return printed + (ended ? 1 : 0);
}

std::string_view word_type(WordKind kind) {
  constexpr std::string_view kTypes[] = {"text word", "decimal word", "hexadecimal word"};
  return kTypes[static_cast<std::size_t>(kind)];
}

std::string_view size_of_data(const Subject& subject) {
  return subject.describes_index ? "length(data)" : "end";
}

void DraftText::title(const Subject& subject, bool big) {
  std::string file = subject.main().name, stem(file_stem(file));
  std::string name;
  for (char c : stem)
    name +=
        is_ascii_name_byte(static_cast<Byte>(c)) && c != '"' && c != '\\' && c != '{' && c != '}' ? c : '_';
  line(fmt::format("layout \"Draft for {}\"", name.empty() ? "a file" : name));
  line("about  \"drafted by study: every line is a guess, its evidence is beside it\"");
  std::string ending = file.substr(stem.size());
  bool plain = ending.size() > 1 && std::all_of(ending.begin() + 1, ending.end(),
                                                [](unsigned char c) { return std::isalpha(c) != 0; });
  if (plain) line("suffix " + to_lower(ending));
  line(big ? "order  big" : "order  little");
  line("");
}

void DraftText::line(const std::string& text, const std::string& comment) {
  std::string indented = within_ ? "  " + text : text;
  out_ += comment.empty() ? indented : fmt::format("{:<32} # {}", indented, comment);
  out_ += '\n';
}

void DraftText::magic(ByteView bytes) {
  line(fmt::format("  magic bytes {}", literal(bytes)), "the same in all files that were studied");
}

void DraftText::gap(std::uint64_t at, std::uint64_t end) {
  constexpr std::uint64_t kMostUnnamed = 8;  // bytes that get fields of their own
  while (at < end) {
    std::uint64_t left = end - at;
    if (left > kMostUnnamed) return line(fmt::format("  {} bytes[{}]", unknown(), left));
    unsigned width = left >= 4 ? 4 : left >= 2 ? 2 : 1;
    line(fmt::format("  {} u{}", unknown(), width * 8));
    at += width;
  }
}

std::string DraftText::unknown() {
  return fmt::format("unknown_{}", ++unknowns_);
}

}  // namespace operculum::study
