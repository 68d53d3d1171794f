#include "container/entry.h"

#include <sys/stat.h>

#include <algorithm>

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

std::size_t memory_of(const Entry& entry) {
  std::size_t bytes = sizeof(Entry) + entry.path.capacity();
  if (!entry.extra) return bytes;
  const EntryExtra& extra = *entry.extra;
  bytes += sizeof(EntryExtra) + extra.link_target.capacity() + extra.owner.capacity() +
           extra.group.capacity() + extra.comment.capacity() + extra.type_tag.capacity();
  for (const auto& [name, value] : extra.attributes)
    bytes += sizeof(std::string) * 2 + name.capacity() + value.capacity();
  return bytes;
}

Entry copy_of(const Entry& entry) {
  Entry copy;
  copy.path = entry.path;
  copy.size = entry.size;
  copy.stored_size = entry.stored_size;
  copy.stored_at = entry.stored_at;
  copy.modified = entry.modified;
  copy.method = entry.method;
  copy.mode = entry.mode;
  copy.crc32 = entry.crc32;
  copy.kind = entry.kind;
  copy.flags = entry.flags;
  if (entry.extra) copy.extra = std::make_unique<EntryExtra>(*entry.extra);
  return copy;
}

std::string_view base_name(std::string_view path) {
  while (path.size() > 1 && path.ends_with('/')) path.remove_suffix(1);
  std::size_t slash = path.rfind('/');
  return slash == std::string_view::npos ? path : path.substr(slash + 1);
}

void clean_in_place(std::string& path) {
  while (path.starts_with("./")) path.erase(0, std::min(path.find_first_not_of('/', 1), path.size()));
  while (path.size() > 1 && path.ends_with('/')) path.pop_back();
  if (path.empty()) path = ".";
}

std::string clean_path(std::string_view stored) {
  std::string path(stored);
  clean_in_place(path);
  return path;
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
