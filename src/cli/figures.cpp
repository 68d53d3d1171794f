#include "cli/figures.h"

#include <fmt/format.h>

#include <cerrno>
#include <filesystem>

#include "base/text.h"
#include "base/units.h"

namespace operculum::cli {
namespace {

/// What drawing words reads, once files of strangers are open, too.
constexpr const char* kFontFiles[] = {"/etc/fonts",
                                      "/usr/share/fonts",
                                      "/usr/local/share/fonts",
                                      "/usr/share/fontconfig",
                                      "/usr/share/xml/fontconfig",
                                      "/var/cache/fontconfig"};

void write_file(const std::string& path, std::string_view bytes) {
  Output file;
  file.open(path);
  file.write_bytes(bytes);
  file.finish();
}

}  // namespace

Figures::Figures(Confinement& confinement, const std::string& folder) {
  if (folder.empty()) return;
  std::error_code error;
  if (std::filesystem::symlink_status(folder, error).type() != std::filesystem::file_type::not_found)
    throw IoError(fmt::format("cannot make the folder {}", escape(folder)), EEXIST);
  folder_ = made_.make(folder, OutputFolder::Must::exist, confinement);
  for (const char* path : kFontFiles) confinement.rights().read.emplace_back(path);
}

void Figures::write(Session& session, const std::vector<Figure>& figures) const {
  bool as_png = true;
  for (const Figure& figure : figures) {
    std::string path = folder_->path() + "/" + figure.name;
    write_file(path + ".svg", svg_of(figure.drawing, Drawn::alone));
    std::optional<Bytes> png = png_of(figure.drawing);
    if (png) write_file(path + ".png", as_text(*png));
    as_png &= png.has_value();
  }
  session.say(Session::Tone::note,
              fmt::format("{} in {}, as SVG{}", counted(figures.size(), "figure is", "figures are"),
                          escape(folder_->path()),
                          as_png ? " and PNG" : "; for PNG, libcairo is needed, which is not installed"));
}

}  // namespace operculum::cli
