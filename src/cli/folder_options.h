#pragma once

#include "cli/session.h"
#include "task/entering.h"

namespace operculum::cli {

/// Words of --enter where a search goes into containers within containers.
constexpr Choice<Enter> kEnterChoices[] = {
    {"named", Enter::named}, {"likely", Enter::likely}, {"all", Enter::all}};

/// --recursive: whether a folder among the targets stands for the files in its folders, too.
class FolderOptions {
 public:
  void add_to(Options& command);

  /// Targets with folders replaced by their files; says how many folders were not gone into.
  std::vector<std::string> files(const Session& session, const std::vector<std::string>& targets) const;

 private:
  bool recursive_ = false;
};

}  // namespace operculum::cli
