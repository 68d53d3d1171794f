#include "cli/selection_options.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <fstream>
#include <iostream>

#include "base/text.h"
#include "container/entry.h"

namespace operculum::cli {

void SelectionOptions::add_to(Options& command, With with, const std::string& what_ignores_case) {
  command.texts(
      "--match", match_, "GLOB",
      "Only entries that fit this pattern: * and ? within a folder, ** across folders (repeatable)");
  command.texts("--except", except_, "GLOB", "Not entries that fit this pattern (repeatable)");
  command.flag("--ignore-case", ignore_case_, what_ignores_case);
  if (with == With::patterns_and_list) {
    command.text("--list-from", list_from_, "FILE",
                 "Only the paths in this file, one a line as list --paths prints them; - is standard input");
  }
}

Selection SelectionOptions::selection(const std::string& inside) {
  if (!made_) {
    made_.emplace();
    for (const std::string& pattern : match_) made_->match.add(Glob(pattern, letters()));
    for (const std::string& pattern : except_) made_->except.add(Glob(pattern, letters()));
    if (!list_from_.empty()) read_list(*made_);
  }
  Selection selection = *made_;
  selection.inside = inside;
  return selection;
}

void SelectionOptions::read_list(Selection& selection) const {
  std::ifstream file;
  if (list_from_ != "-") {
    file.open(list_from_);
    if (!file) throw IoError(fmt::format("cannot read the list {}", escape(list_from_)), errno);
  }
  std::istream& lines = list_from_ == "-" ? std::cin : file;
  auto listed = std::make_shared<Selection::Paths>();
  std::size_t number = 0;
  for (std::string line; std::getline(lines, line);) {
    ++number;
    if (line.ends_with('\r')) line.pop_back();
    if (line.empty()) continue;
    auto path = unescape(line);
    if (!path)
      throw Malformed(
          fmt::format("{}: line {}: expected a path as list --paths prints it (a backslash is written \\\\)",
                      escape(list_from_), number));
    listed->insert(clean_path(*path));
  }
  selection.listed = std::move(listed);
}

void SelectionOptions::tell_unfitted(Session& session) const {
  if (!made_) return;
  std::vector<std::string> unfitted = made_->unfitted();
  if (unfitted.empty()) return;
  constexpr std::size_t kSaid = 5;
  std::string some;
  for (std::size_t i = 0; i < std::min(unfitted.size(), kSaid); ++i)
    some += fmt::format("{}\"{}\"", i == 0 ? "" : ", ", escape(unfitted[i]));
  if (unfitted.size() > kSaid) some += fmt::format(" and {} more", unfitted.size() - kSaid);
  session.say(Session::Tone::warning, fmt::format("nothing fits {}", some));
  session.raise(some_failed);
}

}  // namespace operculum::cli
