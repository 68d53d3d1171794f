#include "container/entry.h"

#include <sys/stat.h>

namespace operculum {

std::string_view name_of(EntryKind kind) {
  switch (kind) {
    case EntryKind::file:
      return "file";
    case EntryKind::folder:
      return "folder";
    case EntryKind::symbolic_link:
      return "link";
    case EntryKind::hard_link:
      return "hard link";
    case EntryKind::character_device:
      return "character device";
    case EntryKind::block_device:
      return "block device";
    case EntryKind::fifo:
      return "fifo";
    case EntryKind::socket:
      return "socket";
  }
  return "unknown";
}

std::string_view base_name(std::string_view path) {
  while (path.size() > 1 && path.ends_with('/')) path.remove_suffix(1);
  std::size_t slash = path.rfind('/');
  return slash == std::string_view::npos ? path : path.substr(slash + 1);
}

std::string clean_path(std::string_view stored) {
  while (stored.starts_with("./")) {
    stored.remove_prefix(2);
    while (stored.starts_with('/')) stored.remove_prefix(1);
  }
  while (stored.size() > 1 && stored.ends_with('/')) stored.remove_suffix(1);
  return stored.empty() ? "." : std::string(stored);
}

EntryKind kind_of_mode(std::uint32_t mode) {
  switch (mode & S_IFMT) {
    case S_IFDIR:
      return EntryKind::folder;
    case S_IFLNK:
      return EntryKind::symbolic_link;
    case S_IFCHR:
      return EntryKind::character_device;
    case S_IFBLK:
      return EntryKind::block_device;
    case S_IFIFO:
      return EntryKind::fifo;
    case S_IFSOCK:
      return EntryKind::socket;
    default:
      return EntryKind::file;
  }
}

}  // namespace operculum
