#pragma once

#include <string>
#include <string_view>

namespace operculum {

/// What stands in front of a path's last part, with the slash: "a/b/" of "a/b/c", nothing of "c".
inline std::string_view folder_part(std::string_view path) {
  std::size_t slash = path.rfind('/');
  return slash == std::string_view::npos ? std::string_view() : path.substr(0, slash + 1);
}

/// A path's last part: "c" of "a/b/c".
inline std::string_view name_part(std::string_view path) {
  return path.substr(folder_part(path).size());
}

/// The folder that holds what a path names, within what holds them all: "a/b" of "a/b/c", nothing of "c".
inline std::string_view parent_of(std::string_view path) {
  std::string_view folder = folder_part(path);
  return folder.empty() ? folder : folder.substr(0, folder.size() - 1);
}

/// The folder on disk in which a file lies: "a/b" of "a/b/c", "." of "c", "/" of "/c".
inline std::string folder_on_disk(std::string_view path) {
  std::string_view folder = folder_part(path);
  if (folder.empty()) return ".";
  return std::string(folder.size() == 1 ? folder : folder.substr(0, folder.size() - 1));
}

/// A file's name without its ending; the whole name where nothing stands in front of its only dot.
inline std::string_view file_stem(std::string_view name) {
  std::size_t dot = name.rfind('.');
  return dot == std::string_view::npos || dot == 0 ? name : name.substr(0, dot);
}

}  // namespace operculum
