// Where the bytes of files, folders and attributes are.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "base/structure_fields.h"
#include "codec/block.h"
#include "format/filesystem/f2fs_volume.h"
#include "format/filesystem/indirect_blocks.h"
#include "format/filesystem/inode_entry.h"
#include "io/block_content.h"

namespace operculum::f2fs {
namespace {

constexpr std::uint32_t kNowhere = 0, kNotWritten = 0xFFFFFFFF,
                        kCluster = 0xFFFFFFFE;       // NULL_, NEW_, COMPRESS_ADDR
constexpr std::uint64_t kLargestFolder = 256 << 20;  // bytes
constexpr std::size_t kFolderEntry = 11, kSlot = 8;

/// The names in a folder's block, or in a folder within an inode: bits of slots in use, entries, slots for
/// names.
struct FolderShape {
  std::size_t slots = 0, entries_at = 0, names_at = 0;
};
constexpr FolderShape kBlockShape = {214, 30, 30 + 214 * kFolderEntry};

FolderShape inline_shape(std::size_t room) {
  std::size_t slots = room * 8 / ((kFolderEntry + kSlot) * 8 + 1), bitmap = (slots + 7) / 8;
  std::size_t reserved = room - (kFolderEntry + kSlot) * slots - bitmap;
  return {slots, bitmap + reserved, bitmap + reserved + slots * kFolderEntry};
}

void list_names(ByteView block, const FolderShape& shape,
                const std::function<void(const FolderItem&)>& take) {
  LittleFields f(block, "F2FS folder");
  for (std::size_t slot = 0; slot < shape.slots;) {
    if ((f.u8(slot / 8) >> (slot % 8) & 1) == 0) {
      ++slot;
      continue;
    }
    std::size_t at = shape.entries_at + slot * kFolderEntry, length = f.u16(at + 8);
    std::size_t taken = std::max<std::size_t>((length + kSlot - 1) / kSlot, 1);
    if (length == 0 || taken > shape.slots - slot)
      throw Malformed(fmt::format("F2FS folder: a name of {} bytes does not fit slot {} of {}", length, slot,
                                  shape.slots));
    std::string_view name = f.text(shape.names_at + slot * kSlot, length);
    if (name != "." && name != "..") take({name, f.u32(at + 4), f.u8(at + 10)});
    slot += taken;
  }
}

BlockCodec codec_of(const Inode& inode) {
  switch (inode.compress_algorithm) {
    case 0:
      return BlockCodec::lzo;
    case 1:
      return BlockCodec::lz4;
    case 2:
      return BlockCodec::zstd;
    default:
      throw Unsupported(inode.compress_algorithm == 3
                            ? "LZO-RLE in F2FS"
                            : fmt::format("F2FS compression {}", inode.compress_algorithm));
  }
}

}  // namespace

void Volume::each_block(const Inode& inode, const BlockSink& take) const {
  const std::uint64_t blocks = inode.size / kBlock + (inode.size % kBlock != 0 ? 1 : 0);
  // packed files keep clusters together
  std::size_t cluster =
      inode.packed() && inode.log_cluster_size < 10 ? std::size_t{1} << inode.log_cluster_size : 1;
  std::uint64_t index = 0, in_node = kPointersInNode / cluster * cluster;
  LittleFields own(inode.node, "F2FS inode");
  for (std::size_t i = 0, count = inode.pointers() / cluster * cluster; i < count && index < blocks; ++i)
    take(index++, own.u32(kInodePointersAt + (inode.extra + i) * 4));
  std::unordered_set<std::uint32_t> seen;
  std::function<void(std::uint32_t, unsigned)> down = [&](std::uint32_t id, unsigned level) {
    std::uint64_t covers = in_node;
    for (unsigned i = 0; i < level; ++i) covers *= kPointersInNode;
    if (id == 0) {
      index += covers;
      return;
    }
    if (!seen.insert(id).second)
      throw Malformed(fmt::format("inode {}: node {} is met twice", inode.number, id));
    Bytes raw = node(id);
    LittleFields f(raw, "F2FS node");
    for (std::size_t i = 0; i < (level == 0 ? in_node : kPointersInNode) && index < blocks; ++i) {
      if (level == 0) {
        take(index++, f.u32(i * 4));
      } else {
        down(f.u32(i * 4), level - 1);
      }
    }
  };
  constexpr unsigned kLevels[] = {0, 0, 1, 1, 2};
  for (std::size_t i = 0; i < std::size(kLevels) && index < blocks; ++i)
    down(own.u32(kTreesAt + i * 4), kLevels[i]);
}

std::vector<Extent> Volume::extents(const Inode& inode) const {
  std::vector<Extent> out;
  each_block(inode, [&](std::uint64_t index, std::uint32_t address) {
    if (address == kNowhere || address == kNotWritten) return;
    std::uint64_t logical = index * kBlock;
    add_extent(out, {logical, place_of(address), std::min(kBlock, inode.size - logical)});
  });
  return out;
}

/// Clusters of blocks: a packed one begins with a mark instead of an address, then the blocks with the packed
/// bytes.
ContentPtr Volume::packed_data(const Inode& inode) const {
  if (inode.log_cluster_size < 2 || inode.log_cluster_size > 8)
    throw Malformed(fmt::format("inode {}: clusters of 2^{} blocks are not possible", inode.number,
                                inode.log_cluster_size));
  const std::size_t in_cluster = std::size_t{1} << inode.log_cluster_size;
  struct Cluster {
    std::uint64_t number = 0;
    std::vector<std::uint64_t> places;  // of its blocks; 0: a hole
    bool packed = false;
  };
  auto clusters = std::make_shared<std::vector<Cluster>>();
  each_block(inode, [&](std::uint64_t index, std::uint32_t address) {
    if (address == kNowhere || address == kNotWritten) return;
    if (clusters->empty() || clusters->back().number != index / in_cluster)
      clusters->push_back({index / in_cluster, std::vector<std::uint64_t>(in_cluster), false});
    Cluster& cluster = clusters->back();
    if (address != kCluster) {
      cluster.places[index % in_cluster] = place_of(address);
    } else if (index % in_cluster == 0) {
      cluster.packed = true;
    }
  });
  const std::uint64_t size = in_cluster * kBlock;
  std::vector<Block> blocks;
  std::uint64_t end = 0;
  auto add_hole = [&](std::uint64_t until) {
    if (until > end)
      blocks.push_back({.unpacked_offset = end,
                        .unpacked_size = until - end,
                        .stored_offset = 0,
                        .stored_size = 0,
                        .hole = true});
  };
  for (std::size_t i = 0; i < clusters->size(); ++i) {
    std::uint64_t at = (*clusters)[i].number * size;
    add_hole(at);
    end = std::min(at + size, inode.size);
    blocks.push_back(
        {.unpacked_offset = at, .unpacked_size = end - at, .stored_offset = i, .stored_size = 0});
  }
  add_hole(inode.size);
  auto decode = [clusters, size, image = image_, codec = codec_of(inode)](const Block& block, ByteSpan out) {
    std::fill(out.begin(), out.end(), Byte{0});
    if (block.hole) return;
    const Cluster& cluster = (*clusters)[static_cast<std::size_t>(block.stored_offset)];
    Bytes kept;
    for (std::size_t i = 0; i < cluster.places.size(); ++i) {
      if (cluster.places[i] == 0) continue;
      if (!cluster.packed && i * kBlock < out.size()) {
        ByteSpan part = out.subspan(i * kBlock, std::min<std::size_t>(kBlock, out.size() - i * kBlock));
        if (image->read_at(cluster.places[i], part) < part.size()) throw CutShort("the image is cut short");
      } else if (cluster.packed) {
        Bytes more = read_exactly(*image, cluster.places[i], kBlock, "F2FS cluster");
        kept.insert(kept.end(), more.begin(), more.end());
      }
    }
    if (!cluster.packed) return;
    LittleFields f(kept, "F2FS cluster");
    ByteView packed = f.bytes(ClusterHead::size, structure_at<ClusterHead>(f, 0).clen);
    Bytes whole(static_cast<std::size_t>(size));
    std::size_t got = decode_block(codec, packed, whole);
    if (got < out.size())
      throw Malformed(fmt::format("F2FS cluster: {} bytes come out, {} are expected", got, out.size()));
    std::copy_n(whole.begin(), out.size(), out.begin());
  };
  return make_block_content(std::move(blocks), std::move(decode));
}

ContentPtr Volume::data(const Inode& inode) const {
  if (inode.encrypted()) throw Unsupported("files that are encrypted one by one (fscrypt)");
  if (inode.is(inline_data_flag)) {
    ByteView room = inode.inline_room();
    Bytes bytes(room.begin(),
                room.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(inode.size, room.size())));
    return make_content(make_memory_source(std::move(bytes)));
  }
  if (inode.packed() && (inode.mode & 0xF000) == 0x8000) return packed_data(inode);
  return make_content(make_extent_source(image_, extents(inode), inode.size));
}

std::string Volume::link_target(const Inode& inode) const {
  return link_target_in(*data(inode)->source());
}

void Volume::list_folder(const Inode& folder, const std::function<void(const FolderItem&)>& take) const {
  if (folder.is(inline_folder_flag)) {
    ByteView room = folder.inline_room();
    return list_names(room, inline_shape(room.size()), take);
  }
  if (folder.size > kLargestFolder)
    throw Malformed(
        fmt::format("inode {}: a folder of {} bytes is not possible", folder.number, folder.size));
  SourcePtr data = make_extent_source(image_, extents(folder), folder.size);
  std::string wrong;
  for (std::uint64_t at = 0; at < folder.size; at += kBlock) {
    if (std::uint64_t hole = data->hole_at(at); hole >= kBlock) {
      at += hole / kBlock * kBlock - kBlock;
      continue;
    }
    try {
      list_names(read_exactly(*data, at, kBlock, "F2FS folder"), kBlockShape, take);
    } catch (const Malformed& error) {
      wrong = error.what();
    }
  }
  if (!wrong.empty()) throw Malformed(wrong);
}

ExtendedAttributes Volume::attributes(const Inode& inode) const {
  constexpr std::size_t kNodeRoom = 4072, head_size = size_on_disk<AttributeHead>;
  constexpr std::string_view kPrefixes[] = {
      "", "user.", "system.posix_acl_access", "system.posix_acl_default", "trusted.", "", "security."};
  Bytes all;
  if (inode.inline_xattrs > 0) {
    ByteView room = ByteView(inode.node)
                        .subspan(kInodePointersAt + (kPointersInInode - inode.inline_xattrs) * 4,
                                 inode.inline_xattrs * 4);
    all.assign(room.begin(), room.end());
  }
  if (inode.xattr_nid != 0) {
    Bytes more = node(inode.xattr_nid);
    all.insert(all.end(), more.begin(), more.begin() + kNodeRoom);
  }
  ExtendedAttributes out;
  LittleFields f(all, "F2FS attributes");
  if (all.size() < AttributesHead::size ||
      structure_at<AttributesHead>(f, 0).h_magic != AttributesHead::magic)
    return out;
  for (std::size_t at = AttributesHead::size; at + head_size <= all.size() && f.u32(at) != 0;) {
    auto head = structure_at<AttributeHead>(f, at);
    std::size_t kind = head.e_name_index, name = head.e_name_len, value = head.e_value_size;
    std::string_view stored = f.text(at + head_size, name), bytes = f.text(at + head_size + name, value);
    if (kind < std::size(kPrefixes) && !kPrefixes[kind].empty())
      out.emplace_back(std::string(kPrefixes[kind]) + std::string(stored), bytes);
    at += (head_size + name + value + 3) / 4 * 4;
  }
  return out;
}

}  // namespace operculum::f2fs
