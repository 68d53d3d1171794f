// Where the bytes of a file lie: in the inode, in extents, or in blocks by the older way.
#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/sum_text.h"
#include "format/filesystem/ext_sums.h"
#include "format/filesystem/ext_volume.h"
#include "format/filesystem/indirect_blocks.h"

namespace operculum::ext {
namespace {

constexpr unsigned kMostLevels = 5;                  // of an extent tree, below the inode
constexpr std::size_t kDirect = 12, kPointers = 15;  // of the older way

}  // namespace

/// Throws Malformed unless a node's head can be of the tree's `level` or below it.
ExtentHead Volume::extent_head(const Inode& inode, ByteView node, unsigned level) const {
  constexpr std::size_t kHead = size_on_disk<ExtentHead>, kRow = size_on_disk<ExtentRow>;
  auto head = read_structure<ExtentHead>(node.data());
  std::size_t room = (node.size() - kHead) / kRow, most = std::min<std::size_t>(head.most, room);
  if (head.magic != kExtentMagic)
    throw Malformed(fmt::format("inode {}: an extent node lacks its magic", inode.number));
  if (head.entries > most)
    throw Malformed(fmt::format("inode {}: an extent node has {} entries where {} have room", inode.number,
                                head.entries, most));
  if (head.depth > level)
    throw Malformed(fmt::format("inode {}: an extent node {} levels above the data, at most {} are possible",
                                inode.number, head.depth, level));
  std::size_t tail = kHead + head.most * kRow;
  bool summed =
      super_.has(metadata_checksum_feature) && node.size() == super_.block_size && tail + 4 <= node.size();
  if (!summed) return head;
  auto stored = load_little<std::uint32_t>(node.data() + tail);
  if (std::uint32_t own = crc32c(seed_of(inode), node.first(tail)); !sum_fits(own, stored))
    throw Malformed(fmt::format("inode {}: an extent node does not fit its checksum{}", inode.number,
                                told_sums(stored, own)));
  return head;
}

void Volume::each_extent(const Inode& inode, ByteView node, unsigned level, ExtentWalk& walk) const {
  ExtentHead head = extent_head(inode, node, level);
  for (std::size_t i = 0; i < head.entries; ++i) {
    const Byte* at = node.data() + size_on_disk<ExtentHead> + i * size_on_disk<ExtentRow>;
    if (head.depth > 0) {
      std::uint64_t child = read_structure<ExtentIndex>(at).leaf();
      if (!walk.seen.insert(child).second)
        throw Malformed(
            fmt::format("inode {}: its extent tree leads twice to block {}", inode.number, child));
      if (walk.table) walk.table(child);
      each_extent(inode, block(child, "ext extent node"), head.depth - 1, walk);
      continue;
    }
    auto row = read_structure<ExtentRow>(at);
    if (row.logical < walk.next)
      throw Malformed(fmt::format("inode {}: its extents overlap or are out of order", inode.number));
    if (row.start() == 0 || row.start() + row.blocks() > super_.blocks)
      throw Malformed(fmt::format("inode {}: blocks {} to {} are not all among the file system's {}",
                                  inode.number, row.start(), row.start() + row.blocks(), super_.blocks));
    walk.next = std::uint64_t{row.logical} + row.blocks();
    walk.row(row);
  }
}

std::vector<Extent> Volume::extents(const Inode& inode) const {
  std::vector<Extent> all;
  if (inode.has(extents_flag)) {
    ExtentWalk walk;
    walk.row = [&](const ExtentRow& row) {
      if (!row.written()) return;  // allocated, never written: reads as zeros
      add_extent(all, {std::uint64_t{row.logical} * super_.block_size, row.start() * super_.block_size,
                       std::uint64_t{row.blocks()} * super_.block_size});
    };
    each_extent(inode, inode.block, kMostLevels, walk);
  } else {
    all = block_map(inode);
  }
  std::erase_if(all, [&](const Extent& one) { return one.logical >= inode.size; });
  if (!all.empty()) all.back().length = std::min(all.back().length, inode.size - all.back().logical);
  return all;
}

/// The older way: twelve blocks, then one, two and three levels of blocks full of block numbers.
std::vector<Extent> Volume::block_map(const Inode& inode) const {
  std::vector<Extent> out;
  std::uint64_t logical = 0, mapped = 0;
  SeenBlocks seen;
  auto add = [&](std::uint32_t number) {
    std::uint64_t at = logical;
    logical += super_.block_size;
    if (number == 0) return;
    if (number >= super_.blocks || ++mapped > super_.blocks)
      throw Malformed(fmt::format("inode {}: block {} is not one of the file system's {}", inode.number,
                                  number, super_.blocks));
    add_extent(out, {at, std::uint64_t{number} * super_.block_size, super_.block_size});
  };
  std::uint64_t per_block = super_.block_size / 4;
  auto table = [&](auto&& self, std::uint32_t number, unsigned level) -> void {
    if (logical >= inode.size) return;
    std::uint64_t covered = super_.block_size;
    for (unsigned i = 0; i < level; ++i) covered *= per_block;
    if (level == 0) return add(number);
    if (number == 0) {
      logical += covered;
      return;
    }
    if (!seen.insert(number).second)
      throw Malformed(fmt::format("inode {}: its block map leads twice to block {}", inode.number, number));
    Bytes raw = block(number, "ext block map");
    for (std::size_t i = 0; i < per_block && logical < inode.size; ++i)
      self(self, load_little<std::uint32_t>(raw.data() + i * 4), level - 1);
  };
  for (std::size_t i = 0; i < kPointers; ++i)
    table(table, load_little<std::uint32_t>(inode.block.data() + i * 4),
          i < kDirect ? 0 : static_cast<unsigned>(i - kDirect + 1));
  return out;
}

std::optional<Bytes> Volume::inline_data(const Inode& inode) const {
  bool link = (inode.mode & 0xF000) == 0xA000;
  if (!inode.has(inline_data_flag)) {
    std::uint64_t for_attributes =
        inode.attribute_block != 0 ? std::uint64_t{super_.cluster_blocks} * super_.block_size : 0;
    if (!link || inode.allocated > for_attributes || inode.size >= inode.block.size()) return std::nullopt;
    return Bytes(inode.block.begin(), inode.block.begin() + static_cast<std::ptrdiff_t>(inode.size));
  }
  Bytes data = inode.block;
  for (const auto& [name, value] : attributes(inode)) {
    if (name == "system.data") data.insert(data.end(), value.begin(), value.end());
  }
  if (inode.size > data.size())
    throw Malformed(fmt::format("inode {}: {} bytes are kept in it, its size says {}", inode.number,
                                data.size(), inode.size));
  if ((inode.mode & 0xF000) != 0x4000) data.resize(static_cast<std::size_t>(inode.size));
  return data;
}

SourcePtr Volume::data(const Inode& inode) const {
  if (auto kept = inline_data(inode)) return make_memory_source(std::move(*kept));
  return make_extent_source(image_, extents(inode), inode.size);
}

BlocksOfFile Volume::blocks_of(const Inode& inode) const {
  BlocksOfFile out;
  SeenBlocks seen;
  if (inode.has(extents_flag)) {
    ExtentWalk walk;
    walk.table = [&](std::uint64_t number) { out.tables.push_back(number); };
    walk.row = [&](const ExtentRow& row) {
      for (std::uint64_t i = 0; i < row.blocks(); ++i) out.data.push_back(row.start() + i);
    };
    each_extent(inode, inode.block, kMostLevels, walk);
    return out;
  }
  auto table = [&](auto&& self, std::uint32_t number, unsigned level) -> void {
    if (number == 0) return;
    if (number >= super_.blocks || !seen.insert(number).second)
      throw Malformed(fmt::format("inode {}: its block map leads twice to block {}", inode.number, number));
    (level == 0 ? out.data : out.tables).push_back(number);
    if (level == 0) return;
    Bytes raw = block(number, "ext block map");
    for (std::size_t i = 0; i < raw.size(); i += 4)
      self(self, load_little<std::uint32_t>(raw.data() + i), level - 1);
  };
  for (std::size_t i = 0; i < kPointers; ++i)
    table(table, load_little<std::uint32_t>(inode.block.data() + i * 4),
          i < kDirect ? 0 : static_cast<unsigned>(i - kDirect + 1));
  return out;
}

}  // namespace operculum::ext
