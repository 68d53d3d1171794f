// Folders of XFS (version 2): names in the inode, in one block, or in blocks whose index lies 32 GiB further
// on in the folder, where no data is. Names alone are looked for here, so the index is not needed.
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "format/filesystem/xfs_volume.h"

namespace operculum::xfs {
namespace {

constexpr std::uint32_t kBlock = 0x58443242, kBlock5 = 0x58444233;  // "XD2B", "XDB3": the only one
constexpr std::uint32_t kData = 0x58443244, kData5 = 0x58444433;    // "XD2D", "XDD3": one of several
constexpr std::size_t data_header_size = 16, data_header_size5 = 64, header_crc_at = 4;
constexpr std::uint64_t kIndexAt = std::uint64_t{1} << 35;  // XFS_DIR2_LEAF_OFFSET
constexpr std::uint16_t kUnused = 0xFFFF;

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
  /// How many names, how many inode numbers of eight bytes, the parent, then the names.
  void in_inode() {
    BigFields f(inode_.data, "XFS folder");
    std::size_t count = f.u8(0), width = f.u8(1) != 0 ? 8 : 4;
    std::size_t at = 2 + width;
    if (f.u8(1) != 0) count = std::max<std::size_t>(count, f.u8(1));
    for (std::size_t i = 0; i < count; ++i) {
      std::size_t length = f.u8(at);
      FolderItem item;
      item.name = f.text(at + 3, length);
      at += 3 + length;
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
    std::uint32_t magic = f.u32(0);
    bool sums = super_.has_checksums(), only = magic == (sums ? kBlock5 : kBlock);
    if (!only && magic != (sums ? kData5 : kData))
      throw Malformed(
          fmt::format("XFS folder block at offset {}: expected the magic \"{}\" or \"{}\", found 0x{:08x}",
                      at, sums ? "XDB3" : "XD2B", sums ? "XDD3" : "XD2D", magic));
    if (sums && !fits_checksum(raw, header_crc_at))
      throw Malformed(fmt::format("XFS folder block at offset {}: it does not fit its checksum", at));
    std::size_t end = size;
    if (only) {  // behind the names lies an index of them
      constexpr std::size_t tail_size = 8, index_entry_size = 8;
      std::uint64_t index = std::uint64_t{f.u32(size - tail_size)} * index_entry_size;
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
      if (f.u16(at) == kUnused) {
        std::size_t length = f.u16(at + 2);
        if (length == 0 || length % kRound != 0 || length > end - at)
          throw Malformed(
              fmt::format("XFS folder block at offset {}: free room at byte {} has the impossible length {}",
                          f.base(), at, length));
        at += length;
        continue;
      }
      FolderItem item;
      item.inode = f.u64(at);
      std::size_t length = f.u8(at + 8), typed = typed_ ? 1 : 0;
      if (length == 0 || at + 9 + length + typed + 2 > end)
        throw Malformed(
            fmt::format("XFS folder block at offset {}: the name at byte {} has the impossible length {}",
                        f.base(), at, length));
      item.name = f.text(at + 9, length);
      if (typed_) item.type = f.u8(at + 9 + length);
      if (!is_own(item.name)) sink_(item);
      at += (9 + length + typed + 2 + kRound - 1) / kRound * kRound;
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
