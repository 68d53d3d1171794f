#include "cli/folder_options.h"

#include <fmt/format.h>

#include "base/units.h"
#include "task/places.h"

namespace operculum::cli {

void FolderOptions::add_to(Options& command) {
  command.flag("--recursive", recursive_, "A folder stands for the files in its folders, too");
}

std::vector<std::string> FolderOptions::files(const Session& session,
                                              const std::vector<std::string>& targets) const {
  Expanded all = expanded(targets, recursive_ ? Subfolders::yes : Subfolders::no);
  if (all.folders_left_out > 0)
    session.say(Session::Tone::note, fmt::format("{} left out; --recursive goes into them",
                                                 all.folders_left_out == 1 ? "a folder within was"
                                                                           : grouped(all.folders_left_out) +
                                                                                 " folders within were"));
  return std::move(all.files);
}

}  // namespace operculum::cli
