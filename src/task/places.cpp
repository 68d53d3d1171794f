#include "task/places.h"

#include <filesystem>

#include "task/counts.h"
#include "task/folder_container.h"
#include "task/folder_entries.h"

namespace operculum {
namespace {

namespace fs = std::filesystem;

void add_folder(const std::string& folder, Subfolders subfolders, Expanded& out) {
  std::vector<std::string> names;
  try {
    names = names_in(folder);
  } catch (const IoError&) {
    out.files.push_back(folder);
    return;
  }
  for (const std::string& name : names) {
    std::string path = (fs::path(folder) / name).string();
    std::error_code error;
    fs::file_status status = fs::symlink_status(path, error);
    if (status.type() == fs::file_type::symlink && fs::is_regular_file(path, error))
      status = fs::status(path, error);
    if (status.type() == fs::file_type::regular) out.files.push_back(path);
    if (status.type() != fs::file_type::directory) continue;
    if (subfolders == Subfolders::yes) {
      add_folder(path, subfolders, out);
    } else {
      ++out.folders_left_out;
    }
  }
}

}  // namespace

Expanded expanded(const std::vector<std::string>& targets, Subfolders subfolders) {
  Expanded all;
  for (const std::string& target : targets) {
    std::error_code error;
    if (fs::is_directory(target, error)) {
      add_folder(target, subfolders, all);
    } else {
      all.files.push_back(target);
    }
  }
  return all;
}

Place resolve_with_folders(const std::string& target, OpenContext& context) {
  std::error_code error;
  if (!fs::is_directory(target, error)) return resolve(target, context, Step::into);
  Place place;
  place.file = target;
  while (place.file.size() > 1 && place.file.ends_with('/')) place.file.pop_back();
  place.name = base_name(place.file);
  place.layers.push_back({&disk_folder_format(), open_disk_folder(place.file), place.name,
                          Entry::kUnknownSize, nullptr, nullptr});
  return place;
}

std::uint64_t bytes_of_file(const Place& place) {
  if (place.file_source) return place.file_source->size();
  Counts counts;
  for (const Entry& entry : place.layers.back().container->entries()) counts.add(entry);
  return counts.bytes;
}

}  // namespace operculum
