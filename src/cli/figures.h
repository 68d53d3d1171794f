#pragma once

#include <string>
#include <vector>

#include "cli/confinement.h"
#include "report/figure.h"

namespace operculum::cli {

/// Makes the new folder that figures are written into, and lets them be; an empty name: none are wanted.
/// Throws IoError when there is something of that name.
void make_figures_folder(Confinement& confinement, const std::string& folder);

/// Writes them there, each as a new file. Throws IoError.
void write_figures(Session& session, const std::string& folder, const std::vector<Figure>& figures);

}  // namespace operculum::cli
