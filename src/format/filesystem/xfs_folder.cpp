// Folders of XFS (version 2): names in the inode, in one block, or in blocks whose index lies 32 GiB further
// on in the folder, where no data is. Names alone are looked for here, so the index is not needed.
#include <fmt/format.h>

#include <algorithm>

#include "base/structure_fields.h"
#include "format/filesystem/xfs_records.h"
#include "format/filesystem/xfs_volume.h"

namespace operculum::xfs {
namespace {

constexpr std::uint64_t kIndexAt = std::uint64_t{1} << 35;  // XFS_DIR2_LEAF_OFFSET

bool is_own(std::string_view name) {
  return name == "." || name == "..";
}

class Folder {
 public:
  Folder(const Volume& volume, const Inode& inode, const FolderSink& sink)
      : volume_(volume),
        super_(volume.super()),
        inode_(inode),
        sink_(sink),
        typed_(super_.has_file_types()) {}

  void list() {
    if (inode_.form == ForkForm::local) return in_inode();
    SourcePtr bytes;
    std::string wrong;
    std::uint32_t size = super_.folder_block();
    for (const Extent& run : volume_.extents(inode_, Fork::data)) {
      if (run.logical >= kIndexAt) break;
      if (run.logical % size == 0 && run.length % size == 0) {
        for (std::uint64_t at = 0; at < run.length; at += size)
          try_block(volume_.meta(), run.stored + at, wrong);
        continue;
      }
      if (bytes) continue;  // blocks in several pieces: from here on as the folder's bytes have them
      bytes = volume_.data(inode_);
      for (std::uint64_t at = run.logical / size * size; at < std::min(inode_.size, kIndexAt); at += size) {
        if (bytes->hole_at(at) < size) try_block(*bytes, at, wrong);
      }
      break;
    }
    if (!wrong.empty()) throw Malformed(wrong);
  }

 private:
  void in_inode() {
    BigFields f(inode_.data, "XFS folder");
    auto head = structure_at<ShortFolder>(f, 0);
    std::size_t count = std::max(head.count, head.i8count), width = head.i8count != 0 ? 8 : 4;
    std::size_t at = size_on_disk<ShortFolder> + width;
    for (std::size_t i = 0; i < count; ++i) {
      auto entry = structure_at<ShortFolderEntry>(f, at);
      at += size_on_disk<ShortFolderEntry>;
      FolderItem item;
      item.name = f.text(at, entry.namelen);
      at += entry.namelen;
      if (typed_) item.type = f.u8(at++);
      item.inode = width == 8 ? f.u64(at) : f.u32(at);
      at += width;
      sink_(item);
    }
  }

  void try_block(const Source& from, std::uint64_t at, std::string& wrong) {
    try {
      block(from, at);
    } catch (const Malformed& error) {
      wrong = error.what();  // the next block stands for itself
    }
  }

  void block(const Source& from, std::uint64_t at) {
    std::uint32_t size = super_.folder_block();
    Bytes raw = read_exactly(from, at, size, "XFS folder block");
    BigFields f(raw, "XFS folder block", at);
    std::uint32_t magic = structure_at<FolderBlock>(f, 0).magic;
    bool sums = super_.has_checksums(), only = magic == (sums ? kBlockMagic5 : kBlockMagic);
    if (!only && magic != (sums ? kDataMagic5 : kDataMagic))
      throw Malformed(
          fmt::format("XFS folder block at offset {}: expected the magic \"{}\" or \"{}\", found 0x{:08x}",
                      at, sums ? "XDB3" : "XD2B", sums ? "XDD3" : "XD2D", magic));
    if (sums && !fits_checksum(raw, place_of(&FolderBlock::crc).at))
      throw Malformed(fmt::format("XFS folder block at offset {}: it does not fit its checksum{}", at,
                                  told_checksum(raw, place_of(&FolderBlock::crc).at)));
    std::size_t end = size;
    if (only) {  // behind the names lies an index of them
      constexpr std::size_t tail_size = size_on_disk<FolderTail>;
      std::uint64_t index =
          std::uint64_t{structure_at<FolderTail>(f, size - tail_size).count} * index_entry_size;
      if (index > size - tail_size)
        throw Malformed(fmt::format(
            "XFS folder block at offset {}: expected an index within the block, found {} bytes", at, index));
      end = static_cast<std::size_t>(size - tail_size - index);
    }
    names(f, sums ? data_header_size5 : data_header_size, end);
  }

  void names(const BigFields& f, std::size_t at, std::size_t end) {
    constexpr std::size_t kRound = 8;
    while (at + kRound <= end) {
      if (auto room = structure_at<FreeRoom>(f, at); room.freetag == kFreeTag) {
        if (room.length == 0 || room.length % kRound != 0 || room.length > end - at)
          throw Malformed(
              fmt::format("XFS folder block at offset {}: free room at byte {} has the impossible length {}",
                          f.base(), at, room.length));
        at += room.length;
        continue;
      }
      auto entry = structure_at<FolderEntry>(f, at);
      std::size_t name_at = at + size_on_disk<FolderEntry>, typed = typed_ ? 1 : 0;
      std::size_t entry_end = name_at + entry.namelen + typed + folder_tag_size;
      if (entry.namelen == 0 || entry_end > end)
        throw Malformed(
            fmt::format("XFS folder block at offset {}: the name at byte {} has the impossible length {}",
                        f.base(), at, entry.namelen));
      FolderItem item;
      item.inode = entry.inumber;
      item.name = f.text(name_at, entry.namelen);
      if (typed_) item.type = f.u8(name_at + entry.namelen);
      if (!is_own(item.name)) sink_(item);
      at += (entry_end - at + kRound - 1) / kRound * kRound;
    }
  }

  const Volume& volume_;
  const Superblock& super_;
  const Inode& inode_;
  const FolderSink& sink_;
  bool typed_;
};

}  // namespace

void list_folder(const Volume& volume, const Inode& folder, const FolderSink& sink) {
  Folder(volume, folder, sink).list();
}

}  // namespace operculum::xfs
