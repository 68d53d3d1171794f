#pragma once

#include <string>
#include <vector>

#include "cli/output_folders.h"
#include "report/figure.h"

namespace operculum::cli {

/// The new folder that a command's figures are written into. It goes again when none comes into it.
class Figures {
 public:
  /// An empty name: none are wanted. Throws IoError when there is something of that name.
  Figures(Confinement& confinement, const std::string& folder);

  bool wanted() const { return folder_ != nullptr; }
  /// Each as a new file. Throws IoError.
  void write(Session& session, const std::vector<Figure>& figures) const;

 private:
  OutputFolders made_;
  std::shared_ptr<OutputFolder> folder_;
};

}  // namespace operculum::cli
