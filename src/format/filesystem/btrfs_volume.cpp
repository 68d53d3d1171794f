#include "format/filesystem/btrfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/fields.h"
#include "base/text.h"
#include "io/cached_source.h"

namespace operculum::btrfs {
namespace {

constexpr std::size_t kSumSize = 32;
constexpr std::size_t node_header_size = 101, key_size = 17, leaf_item_size = 25, pointer_size = 33;
constexpr std::size_t chunk_header_size = 48, stripe_size = 32;
constexpr unsigned kHighest = 8;  // BTRFS_MAX_LEVEL
constexpr std::string_view kMagic = "_BHRfS_M";

enum SumType : std::uint16_t { kCrc32c = 0, kXxhash = 1, kSha256 = 2, kBlake2b = 3 };
/// Kinds of chunks: those that leave a copy of everything on each device need no other one.
enum Profile : std::uint64_t { kRaid0 = 8, kRaid1 = 16, kDup = 32, kRaid10 = 64, kRaid5 = 128, kRaid6 = 256 };

constexpr std::uint64_t kExtentTree2 = 1 << 13, kRaidStripeTree = 1 << 14;

Key read_key(const LittleFields& f, std::size_t at) {
  return {f.u64(at), f.u8(at + 8), f.u64(at + 9)};
}

/// Whether a block fits the checksum in its first bytes; the kinds that are not computed here fit always.
bool fits_sum(ByteView block, std::uint16_t type) {
  ByteView summed = block.subspan(kSumSize);
  if (type == kCrc32c) return ~crc32c(~0U, summed) == load_little<std::uint32_t>(block.data());
  if (type == kSha256) return to_hex(block.first(kSumSize)) == sha256_hex(summed);
  return true;
}

Timestamp time_of(const LittleFields& f, std::size_t at) {
  return from_unix(static_cast<std::int64_t>(f.u64(at)), std::min<std::uint32_t>(f.u32(at + 8), 999'999'999));
}

}  // namespace

Superblock read_superblock(ByteView bytes) {
  LittleFields f(bytes, "btrfs superblock", kSuperAt);
  if (f.text(64, kMagic.size()) != kMagic)
    throw Malformed("btrfs superblock: expected the magic \"_BHRfS_M\"");
  Superblock s;
  s.sum_type = f.u16(196);
  if (s.sum_type > kBlake2b)
    throw Malformed(fmt::format("btrfs superblock: expected csum_type to be 0 to 3, found {}", s.sum_type));
  if (!fits_sum(f.bytes(0, kSuperSize), s.sum_type))
    throw Malformed("btrfs superblock: it does not fit its checksum");
  auto copy = [&](std::size_t at, std::size_t size) {
    ByteView raw = f.bytes(at, size);
    return Bytes(raw.begin(), raw.end());
  };
  s.fsid = copy(32, 16);
  s.generation = f.u64(72);
  s.root = {f.u64(80), f.u8(198)};
  s.chunk_root = {f.u64(88), f.u8(199)};
  s.log_root = {f.u64(96), f.u8(200)};
  s.total_bytes = f.u64(112);
  s.bytes_used = f.u64(120);
  s.devices = f.u64(136);
  s.sectorsize = f.u32(144);
  s.nodesize = f.u32(148);
  s.incompat = f.u64(188);
  s.device = f.u64(201);
  s.device_bytes = f.u64(209);
  s.device_uuid = copy(267, 16);
  std::string_view label = f.text(299, 256);
  s.label = label.substr(0, label.find('\0'));
  auto power = [](std::uint32_t value, std::uint32_t least) {
    return value >= least && value <= 65536 && (value & (value - 1)) == 0;
  };
  if (!power(s.sectorsize, 512))
    throw Malformed(
        fmt::format("btrfs superblock: expected sectorsize to be a power of two from 512 to 65,536, found {}",
                    s.sectorsize));
  if (!power(s.nodesize, 4096))
    throw Malformed(
        fmt::format("btrfs superblock: expected nodesize to be a power of two from 4,096 to 65,536, found {}",
                    s.nodesize));
  for (const Tree& tree : {s.root, s.chunk_root}) {
    if (tree.level >= kHighest)
      throw Malformed(fmt::format("btrfs superblock: expected a tree of level 0 to 7, found {}", tree.level));
  }
  std::uint32_t size = f.u32(160);
  constexpr std::uint32_t kMost = 2048;
  if (size > kMost)
    throw Malformed(fmt::format("btrfs superblock: expected sys_chunk_array_size to be at most {}, found {}",
                                kMost, size));
  s.first_chunks = copy(811, size);
  return s;
}

Volume::Volume(SourcePtr image) : image_(std::move(image)), meta_(make_cached(image_)) {
  super_ = read_superblock(read_exactly(*meta_, kSuperAt, kSuperSize, "btrfs superblock"));
  if ((super_.incompat & (kExtentTree2 | kRaidStripeTree)) != 0)
    throw Unsupported(fmt::format("btrfs with the features 0x{:x}", super_.incompat));
  LittleFields f(super_.first_chunks, "btrfs chunks");
  for (std::size_t at = 0; at + key_size + chunk_header_size <= f.size();) {
    Key key = read_key(f, at);
    std::size_t stripes = f.u16(at + key_size + 44), size = chunk_header_size + stripes * stripe_size;
    add_chunk(key, f.bytes(at + key_size, size));
    at += key_size + size;
  }
  std::vector<Chunk> first = chunks_;
  std::vector<std::pair<Key, Bytes>> found;
  each_item(super_.chunk_root, {kFirstFree, kChunkItem, 0}, {kFirstFree, kChunkItem, UINT64_MAX},
            [&](const Item& item) {
              found.emplace_back(item.key, Bytes(item.data.begin(), item.data.end()));
              return true;
            });
  chunks_.clear();
  elsewhere_ = false;
  for (const auto& [key, data] : found) add_chunk(key, data);
  if (chunks_.empty()) chunks_ = first;
}

void Volume::add_chunk(const Key& key, ByteView item) {
  LittleFields f(item, "btrfs chunk");
  Chunk chunk{key.offset, f.u64(0), 0};
  std::uint64_t profile = f.u64(24);
  std::size_t stripes = f.u16(44);
  bool whole = (profile & (kRaid0 | kRaid10 | kRaid5 | kRaid6)) == 0 || stripes == 1;
  bool here = false;
  for (std::size_t i = 0; whole && !here && i < stripes; ++i) {
    std::size_t at = chunk_header_size + i * stripe_size;
    here = f.u64(at) == super_.device;
    chunk.physical = f.u64(at + 8);
  }
  if (!here) {
    elsewhere_ = true;
    return;
  }
  if (chunk.length == 0 || chunk.logical + chunk.length < chunk.logical ||
      chunk.physical + chunk.length < chunk.physical)
    throw Malformed(
        fmt::format("btrfs chunk at {}: its length {} leads nowhere", chunk.logical, chunk.length));
  auto place = std::upper_bound(chunks_.begin(), chunks_.end(), chunk.logical,
                                [](std::uint64_t at, const Chunk& one) { return at < one.logical; });
  chunks_.insert(place, chunk);
}

std::uint64_t Volume::physical(std::uint64_t logical, std::uint64_t& length) const {
  auto behind = std::upper_bound(chunks_.begin(), chunks_.end(), logical,
                                 [](std::uint64_t at, const Chunk& one) { return at < one.logical; });
  if (behind != chunks_.begin()) {
    const Chunk& chunk = *(behind - 1);
    std::uint64_t within = logical - chunk.logical;
    if (within < chunk.length) {
      length = std::min(length, chunk.length - within);
      return chunk.physical + within;
    }
  }
  if (elsewhere_)
    throw Unsupported(fmt::format("btrfs over several devices: address {} has no copy on this one ({} of {})",
                                  logical, super_.device, super_.devices));
  throw Malformed(fmt::format("btrfs: no chunk covers the address {}", logical));
}

Bytes Volume::node(std::uint64_t at, unsigned level) const {
  std::uint64_t length = super_.nodesize, place = physical(at, length);
  if (length < super_.nodesize) throw Malformed(fmt::format("btrfs: the node at {} leaves its chunk", at));
  Bytes raw = read_exactly(*meta_, place, super_.nodesize, "btrfs node");
  LittleFields f(raw, "btrfs node", place);
  if (!fits_sum(raw, super_.sum_type))
    throw Malformed(fmt::format("btrfs node at offset {}: it does not fit its checksum", place));
  if (f.u64(48) != at || f.u8(100) != level)
    throw Malformed(fmt::format("btrfs node at offset {}: expected bytenr {} and level {}, found {} and {}",
                                place, at, level, f.u64(48), f.u8(100)));
  return raw;
}

/// What a visit carries down. Keys must rise from item to item: a node that is in the tree twice ends it.
struct Volume::Walk {
  const Key& first;
  const Key& last;
  const std::function<bool(const Item&)>& visit;
  std::optional<Key> seen = {};
};

bool Volume::walk(Walk& walk, std::uint64_t at, unsigned level) const {
  Bytes raw = node(at, level);
  LittleFields f(raw, "btrfs node", at);
  std::size_t count = f.u32(96), entry = level == 0 ? leaf_item_size : pointer_size;
  if (count > (super_.nodesize - node_header_size) / entry)
    throw Malformed(fmt::format("btrfs node at {}: expected at most {} items, found {}", at,
                                (super_.nodesize - node_header_size) / entry, count));
  auto key_at = [&](std::size_t i) { return read_key(f, node_header_size + i * entry); };
  // The first one that may hold what is wanted.
  std::size_t low = 0, high = count;
  while (low < high) {
    std::size_t middle = low + (high - low) / 2;
    if (key_at(middle) < walk.first) {
      low = middle + 1;
    } else {
      high = middle;
    }
  }
  if (level > 0 && low > 0 && (low == count || walk.first < key_at(low))) --low;
  for (std::size_t i = low; i < count; ++i) {
    Key key = key_at(i);
    if (walk.last < key) return false;
    if (level > 0) {
      if (!this->walk(walk, f.u64(node_header_size + i * entry + key_size), level - 1)) return false;
      continue;
    }
    if (walk.seen && !(*walk.seen < key))
      throw Malformed(fmt::format("btrfs node at {}: its keys do not rise", at));
    walk.seen = key;
    std::size_t from = f.u32(node_header_size + i * entry + key_size),
                size = f.u32(node_header_size + i * entry + key_size + 4);
    if (!walk.visit({key, f.bytes(node_header_size + from, size)})) return false;
  }
  return true;
}

void Volume::each_item(const Tree& tree, const Key& first, const Key& last,
                       const std::function<bool(const Item&)>& visit) const {
  Walk walk{first, last, visit};
  this->walk(walk, tree.at, tree.level);
}

std::optional<Tree> Volume::subvolume(std::uint64_t number) const {
  std::optional<Tree> found;
  each_item(super_.root, {number, kRootItem, 0}, {number, kRootItem, UINT64_MAX}, [&](const Item& item) {
    LittleFields f(item.data, "btrfs root item");
    found = Tree{f.u64(176), f.u8(238)};
    if (found->level >= kHighest)
      throw Malformed(
          fmt::format("btrfs root item {}: expected a level of 0 to 7, found {}", number, found->level));
    return true;
  });
  return found;
}

Inode Volume::inode(const Tree& tree, std::uint64_t number) const {
  std::optional<Inode> found;
  each_item(tree, {number, kInodeItem, 0}, {number, kInodeItem, UINT64_MAX}, [&](const Item& item) {
    LittleFields f(item.data, "btrfs inode");
    Inode out;
    out.number = number;
    out.size = f.u64(16);
    out.bytes = f.u64(24);
    out.links = f.u32(40);
    out.uid = f.u32(44);
    out.gid = f.u32(48);
    out.mode = f.u32(52);
    out.device = f.u64(56);
    out.flags = f.u64(64);
    out.accessed = time_of(f, 112);
    out.changed = time_of(f, 124);
    out.modified = time_of(f, 136);
    out.created = time_of(f, 148);
    found = out;
    return false;
  });
  if (!found) throw Malformed(fmt::format("btrfs: there is no inode {}", number));
  return *found;
}

SourcePtr Volume::data(const Tree& tree, const Inode& inode) const {
  constexpr std::size_t inline_at = 21;
  std::vector<FileExtent> extents;
  each_item(tree, {inode.number, kExtentData, 0}, {inode.number, kExtentData, UINT64_MAX},
            [&](const Item& item) {
              LittleFields f(item.data, "btrfs extent");
              FileExtent out;
              out.offset = item.key.offset;
              out.unpacked_length = f.u64(8);
              out.compression = f.u8(16);
              if (f.u8(17) != 0 || f.u16(18) != 0)
                throw Unsupported("encrypted or otherwise encoded extents of btrfs");
              if (out.compression > 3)
                throw Unsupported(fmt::format("btrfs compression {}", out.compression));
              switch (f.u8(20)) {
                case 0: {  // in the item
                  ByteView kept = f.bytes(inline_at, item.data.size() - inline_at);
                  out.kind = FileExtent::Kind::within;
                  out.inline_data.assign(kept.begin(), kept.end());
                  out.length = out.unpacked_length;
                  break;
                }
                case 1:
                case 2:  // allocated, and never written
                  out.stored_at = f.u64(21);
                  out.stored_length = f.u64(29);
                  out.skip = f.u64(37);
                  out.length = f.u64(45);
                  out.kind = f.u8(20) == 2 || out.stored_at == 0 ? FileExtent::Kind::hole
                             : out.compression != 0              ? FileExtent::Kind::packed
                                                                 : FileExtent::Kind::plain;
                  break;
                default:
                  throw Malformed(fmt::format("btrfs extent of inode {}: expected type 0 to 2, found {}",
                                              inode.number, f.u8(20)));
              }
              extents.push_back(std::move(out));
              return true;
            });
  return make_file(*this, std::move(extents), inode.size);
}

void each_name(ByteView item, const std::function<void(const Named&)>& visit) {
  LittleFields f(item, "btrfs name");
  constexpr std::size_t head = 30;
  for (std::size_t at = 0; at + head <= item.size();) {
    Named out;
    out.location = read_key(f, at);
    std::size_t value = f.u16(at + 25), name = f.u16(at + 27);
    out.type = f.u8(at + 29);
    out.name = f.text(at + head, name);
    out.value = f.text(at + head + name, value);
    visit(out);
    at += head + name + value;
  }
}

}  // namespace operculum::btrfs
