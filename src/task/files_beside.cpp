#include "task/files_beside.h"

#include <fmt/format.h>

#include <filesystem>
#include <map>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"
#include "container/parts.h"

namespace operculum {

std::string name_beside(const std::string& file, const std::string& before, const std::string& after) {
  std::string_view stem = file_stem(before);
  if (!file.starts_with(stem)) return file;
  return std::string(file_stem(after)) + file.substr(stem.size());
}

Beside beside_planned(const RebuildLayer& layer, const PlannedLayer& plan) {
  Beside out = layer.sibling;
  std::map<std::string, SourcePtr> files;
  for (const FileBeside& one : plan.beside)
    files[name_beside(one.name, layer.name, plan.name_in(layer))] = one.bytes;
  if (files.empty()) return out;
  out.open = [files, other = layer.sibling](const std::string& name) {
    auto found = files.find(name);
    return found != files.end() ? found->second : other(name);
  };
  return out;
}

std::vector<FileToWrite> files_to_write(const PlannedLayer& plan, const std::string& original,
                                        const std::string& into) {
  std::vector<FileToWrite> out;
  std::string before(base_name(original)), after(base_name(into.empty() ? original : into));
  for (const FileBeside& one : plan.beside) {
    std::string there = path_beside(original, one.name);
    NewFile as;
    as.in_place = into.empty();
    as.like = there;
    as.path = into.empty() ? there : std::string(folder_part(into)) + name_beside(one.name, before, after);
    std::error_code none;
    bool same_place = into.empty() || std::filesystem::equivalent(as.path, there, none);
    if (same_place && !one.changed) continue;
    if (same_place && !into.empty()) {
      throw Unsupported(fmt::format(
          "changing \"{}\", which the original needs as it is; --into another folder, or --in-place",
          escape(as.path)));
    }
    out.push_back({one, std::move(as)});
  }
  return out;
}

}  // namespace operculum
