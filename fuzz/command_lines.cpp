// Command lines: the words of one with zero bytes between them. They are read and nothing is run.
#include <algorithm>

#include "base/text.h"
#include "cli/program.h"
#include "fuzz/target.h"

namespace operculum::fuzz {
namespace {

/// Whether a file would be read while the words are: one that never ends may be named.
bool names_defaults(std::string_view word) {
  return word.starts_with("--conf");
}

void read_words(ByteView bytes) {
  constexpr std::size_t kMostBytes = 4000, kMostWords = 200;
  std::vector<std::string> words;
  for (std::string_view word : split(as_text(bytes.first(std::min(bytes.size(), kMostBytes))), '\0'))
    if (words.size() < kMostWords && !names_defaults(word)) words.emplace_back(word);
  cli::Session session;
  auto program = cli::make_command_line(session);
  try {
    auto [text, command] = program->read(words);
    must(text.empty() == static_cast<bool>(command), "a command line asks for nothing, or for two things");
  } catch (const cli::UsageError& error) {
    must(!error.sentence.empty() && printable(error.sentence) == error.sentence,
         "a sentence about the command line steers a terminal");
  }
}

}  // namespace

std::vector<Target> command_line_targets() {
  return {{"command-line", read_words}};
}

}  // namespace operculum::fuzz
