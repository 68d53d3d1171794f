#pragma once

#include <fmt/format.h>

#include <iterator>
#include <optional>

#include "base/error.h"
#include "container/entry.h"
#include "format/filesystem/file_tree.h"
#include "io/source.h"

namespace operculum {

/// The kind that a folder tells of a name by a number, as ext, EROFS, XFS and btrfs have it (FT_*); nothing
/// for 0, which is not told, and for numbers that stand for none.
inline std::optional<EntryKind> kind_of_type(unsigned type) {
  constexpr EntryKind kKinds[] = {EntryKind::file,         EntryKind::folder, EntryKind::character_device,
                                  EntryKind::block_device, EntryKind::fifo,   EntryKind::socket,
                                  EntryKind::symbolic_link};
  if (type == 0 || type > std::size(kKinds)) return std::nullopt;
  return kKinds[type - 1];
}

/// What take_inode() takes, for inodes that keep it in a form of their own.
struct InodeFacts {
  std::uint32_t mode = 0, uid = 0, gid = 0;
  Timestamp modified, accessed, changed, created;
};

/// What every inode that keeps four times says of a thing: kind, mode, owner and times. Returns the extras,
/// for the rest.
template <typename Inode>
EntryExtra& take_inode(Entry& entry, const Inode& inode) {
  entry.kind = kind_of_mode(inode.mode);
  entry.mode = inode.mode & 07777;
  entry.modified = inode.modified;
  EntryExtra& extra = entry.extras();
  extra.user_id = inode.uid;
  extra.group_id = inode.gid;
  extra.accessed = inode.accessed;
  extra.changed = inode.changed;
  extra.created = inode.created;
  return extra;
}

/// The size of a file of which `allocated` units of `unit` bytes are stored, holes not counted.
inline void take_size(Entry& entry, std::uint64_t size, std::uint64_t allocated, std::uint64_t unit) {
  entry.size = size;
  entry.stored_size = allocated > size / unit ? size : allocated * unit;
  if (entry.stored_size < size) entry.flags |= Entry::sparse;
}

/// The target of a symbolic link that is kept as a file's bytes.
inline std::string link_target_in(const Source& data) {
  constexpr std::uint64_t kMaxTarget = 4096;
  return std::string(as_text(read_up_to(data, 0, kMaxTarget)));
}

/// Throws Malformed unless an inode is a folder's, of at most `most` bytes.
template <typename Inode>
void require_folder(const Inode& inode, std::uint64_t number, std::uint64_t size, std::uint64_t most) {
  if (kind_of_mode(inode.mode) != EntryKind::folder)
    throw Malformed(fmt::format("inode {} is no folder", number));
  if (size > most)
    throw Malformed(fmt::format("inode {}: a folder of {} bytes is not possible", number, size));
}

/// What is left to say of an inode of the old Unix kind, which keeps a device's numbers in its first block
/// pointer; `data()` gives the bytes of a link.
template <typename Inode, typename Data>
void fill_old_inode(TreeItem& item, const Inode& inode, std::uint64_t first_pointer, Data data) {
  Entry& entry = item.entry;
  EntryExtra& extra = take_inode(entry, inode);
  switch (entry.kind) {
    case EntryKind::file:
      entry.size = entry.stored_size = inode.size;
      if (inode.links > 1) item.link_id = inode.number;
      break;
    case EntryKind::symbolic_link:
      extra.link_target = link_target_in(*data());
      break;
    case EntryKind::character_device:
    case EntryKind::block_device:
      extra.device_major = static_cast<std::uint32_t>(first_pointer >> 8 & 0xFF);
      extra.device_minor = static_cast<std::uint32_t>(first_pointer & 0xFF);
      break;
    default:
      break;
  }
}

}  // namespace operculum
