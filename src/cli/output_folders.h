#pragma once

#include <memory>
#include <vector>

#include "cli/confinement.h"
#include "io/output_folder.h"

namespace operculum::cli {

/// Output folders. They are made before anything is read, for afterwards only what lies in them can be
/// written; those into which nothing came are taken back at the end, and when a signal ends the program.
class OutputFolders {
 public:
  OutputFolders() = default;
  ~OutputFolders();
  OutputFolders(const OutputFolders&) = delete;
  OutputFolders& operator=(const OutputFolders&) = delete;

  /// Makes or opens one, and adds to what the command may change. Throws CannotWrite, IoError.
  std::shared_ptr<OutputFolder> make(const std::string& path, OutputFolder::Must must,
                                     Confinement& confinement);

 private:
  std::vector<std::shared_ptr<OutputFolder>> folders_;
};

}  // namespace operculum::cli
