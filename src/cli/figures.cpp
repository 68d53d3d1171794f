#include "cli/figures.h"

#include <fmt/format.h>

#include <cerrno>
#include <filesystem>

#include "base/text.h"
#include "base/units.h"

namespace operculum::cli {

Figures::Figures(Confinement& confinement, const std::string& folder) {
  if (folder.empty()) return;
  std::error_code error;
  if (std::filesystem::symlink_status(folder, error).type() != std::filesystem::file_type::not_found)
    throw IoError(fmt::format("cannot make the folder {}", escape(folder)), EEXIST);
  folder_ = made_.make(folder, OutputFolder::Must::exist, confinement);
}

void Figures::write(Session& session, const std::vector<Figure>& figures) const {
  for (const Figure& figure : figures) {
    Output file;
    file.open(folder_->path() + "/" + figure.name);
    file.write(figure.svg);
    file.finish();
  }
  session.say(
      Session::Tone::note,
      fmt::format("{} in {}", counted(figures.size(), "figure is", "figures are"), escape(folder_->path())));
}

}  // namespace operculum::cli
