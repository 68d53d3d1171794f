#include "cli/figures.h"

#include <fmt/format.h>

#include <cerrno>
#include <filesystem>

#include "base/text.h"
#include "base/units.h"

namespace operculum::cli {

void make_figures_folder(Confinement& confinement, const std::string& folder) {
  if (folder.empty()) return;
  std::error_code error;
  if (!std::filesystem::create_directory(folder, error))
    throw IoError(fmt::format("cannot make the folder {}", escape(folder)), error ? error.value() : EEXIST);
  confinement.changes(folder);
}

void write_figures(Session& session, const std::string& folder, const std::vector<Figure>& figures) {
  if (folder.empty()) return;
  for (const Figure& figure : figures) {
    Output file;
    file.open(folder + "/" + figure.name);
    file.write(figure.svg);
    file.finish();
  }
  session.say(Session::Tone::note,
              fmt::format("{} in {}", counted(figures.size(), "figure is", "figures are"), escape(folder)));
}

}  // namespace operculum::cli
