#pragma once

#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/squashfs_blocks.h"

/// What the trees of all versions of SquashFS have in common.
namespace operculum::squash {

constexpr std::uint64_t kPadding = 4096;  ///< images fill up to a multiple of it

/// What a folder's row says a name is; nothing for numbers that stand for none.
inline std::optional<EntryKind> kind_of_row(unsigned type) {
  static constexpr EntryKind kKinds[] = {
      EntryKind::file,         EntryKind::folder,           EntryKind::file, EntryKind::symbolic_link,
      EntryKind::block_device, EntryKind::character_device, EntryKind::fifo, EntryKind::socket};
  return type < std::size(kKinds) ? std::optional(kKinds[type]) : std::nullopt;
}

/// Throws Malformed.
inline void require_folder(const Inode& inode) {
  if (inode.type != Type::folder && inode.type != Type::long_folder)
    throw Malformed("SquashFS: a folder's inode is of another kind");
}

/// All that an inode says of a thing, but its extended attributes.
inline void fill_item(TreeItem& item, const Inode& inode) {
  static constexpr EntryKind kKinds[] = {
      EntryKind::folder,           EntryKind::file, EntryKind::symbolic_link, EntryKind::block_device,
      EntryKind::character_device, EntryKind::fifo, EntryKind::socket};
  Entry& entry = item.entry;
  entry.kind = kKinds[(inode.type - 1) % std::size(kKinds)];
  entry.mode = inode.mode;
  entry.modified = from_unix(inode.time);
  EntryExtra& extra = entry.extras();
  extra.user_id = inode.uid;
  extra.group_id = inode.gid;
  extra.link_target = inode.target;
  set_device(extra, inode.device);
  if (entry.kind != EntryKind::file) return;
  entry.size = inode.size;
  if (inode.sparse > 0) entry.flags |= Entry::sparse;
  if (inode.links > 1) item.link_id = inode.number;
}

/// Tells when an image is cut short, or goes on behind its padding; both in bytes.
inline void compare_image_size(Container& container, std::uint64_t image, std::uint64_t used) {
  std::uint64_t padded = (used + kPadding - 1) / kPadding * kPadding;
  if (image < used || image > padded) compare_sizes(container, image, used);
}

}  // namespace operculum::squash
