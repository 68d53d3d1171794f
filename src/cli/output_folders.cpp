#include "cli/output_folders.h"

#include "cli/signals.h"

namespace operculum::cli {

OutputFolders::~OutputFolders() {
  for (const auto& folder : folders_) folder->take_back_if_empty();
  forget_empty_folders();
}

std::shared_ptr<OutputFolder> OutputFolders::make(const std::string& path, OutputFolder::Must must,
                                                  Confinement& confinement) {
  auto folder = std::make_shared<OutputFolder>(path, must);
  confinement.changes(folder->path());
  for (const std::string& made : folder->made_folders()) {
    confinement.takes_back(made);
    remove_if_empty_at_signal(made);
  }
  folders_.push_back(folder);
  return folder;
}

}  // namespace operculum::cli
