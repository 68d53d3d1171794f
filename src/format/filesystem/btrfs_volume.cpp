#include "format/filesystem/btrfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/fields.h"
#include "base/text.h"

namespace operculum::btrfs {
namespace {

constexpr std::size_t kSumSize = 32;
constexpr std::size_t node_header_size = 101, key_size = 17, leaf_item_size = 25, pointer_size = 33;
constexpr std::size_t chunk_header_size = 48, stripe_size = 32;
constexpr std::uint64_t kSumTree = 7, kSumObject = static_cast<std::uint64_t>(-10);
constexpr unsigned kHighest = 8;  // BTRFS_MAX_LEVEL
constexpr std::string_view kMagic = "_BHRfS_M";

constexpr std::uint64_t kExtentTree2 = 1 << 13, kRaidStripeTree = 1 << 14;

Key read_key(const LittleFields& f, std::size_t at) {
  return {f.u64(at), f.u8(at + 8), f.u64(at + 9)};
}

/// Whether a block fits the checksum in its first bytes.
bool fits_sum(ByteView block, std::uint16_t type) {
  return has_sum(type, block.subspan(kSumSize), block.first(kSumSize));
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
  s.label = until_zero(label);
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

Volume::Volume(Superblock super, Devices devices)
    : super_(std::move(super)), chunks_(std::make_shared<Chunks>(std::move(devices))) {
  if ((super_.incompat & (kExtentTree2 | kRaidStripeTree)) != 0)
    throw Unsupported(fmt::format("btrfs with the features 0x{:x}", super_.incompat));
  LittleFields f(super_.first_chunks, "btrfs chunks");
  for (std::size_t at = 0; at + key_size + chunk_header_size <= f.size();) {
    Key key = read_key(f, at);
    std::size_t stripes = f.u16(at + key_size + 44), size = chunk_header_size + stripes * stripe_size;
    chunks_->add(key.offset, f.bytes(at + key_size, size));
    at += key_size + size;
  }
  std::vector<std::pair<Key, Bytes>> found;
  each_item(super_.chunk_root, {kFirstFree, kChunkItem, 0}, {kFirstFree, kChunkItem, UINT64_MAX},
            [&](const Item& item) {
              found.emplace_back(item.key, Bytes(item.data.begin(), item.data.end()));
              return true;
            });
  if (!found.empty()) chunks_->clear();
  for (const auto& [key, data] : found) chunks_->add(key.offset, data);
  try {
    sums_ = subvolume(kSumTree);
  } catch (const Malformed&) {  // told by whoever reads the tree of roots for what is wanted
  }
  logical_ = std::make_shared<SummedData>(
      chunks_, super_.sum_type, super_.sectorsize,
      [this](std::uint64_t logical, std::size_t count) { return find_sums(logical, count); });
}

Bytes Volume::read_node(std::uint64_t at, unsigned level, std::size_t copy) const {
  Bytes raw(super_.nodesize);
  chunks_->read(at, raw, copy);
  LittleFields f(raw, "btrfs node", at);
  if (!fits_sum(raw, super_.sum_type))
    throw Malformed(fmt::format("btrfs node at address {}: it does not fit its checksum", at));
  if (f.u64(48) != at || f.u8(100) != level)
    throw Malformed(fmt::format("btrfs node at address {}: expected bytenr {} and level {}, found {} and {}",
                                at, at, level, f.u64(48), f.u8(100)));
  return raw;
}

/// Another copy is read where one is damaged.
BytesPtr Volume::node(std::uint64_t at, unsigned level) const {
  BytesPtr found = nodes_.get(at, [&] {
    Bytes raw;
    chunks_->any_copy(at, [&](std::size_t copy) { raw = read_node(at, level, copy); });
    return raw;
  });
  if (LittleFields(*found, "btrfs node", at).u8(100) != level)  // it is kept for another place in the tree
    throw Malformed(fmt::format("btrfs node at address {}: expected level {}", at, level));
  return found;
}

/// An item has the checksums of many sectors, one after another, from the address in its key on.
SectorSums Volume::find_sums(std::uint64_t logical, std::size_t count) const {
  const std::size_t size = sum_size(super_.sum_type);
  SectorSums out{Bytes(count * size), std::vector<bool>(count)};
  if (!sums_) return out;
  std::uint64_t end = logical + count * super_.sectorsize;
  // one that begins in front may reach here: as far as a node may hold checksums
  std::uint64_t reach = std::uint64_t{super_.nodesize} / size * super_.sectorsize;
  each_item(*sums_, {kSumObject, kExtentSum, logical - std::min(logical, reach)},
            {kSumObject, kExtentSum, end - 1}, [&](const Item& item) {
              for (std::size_t i = 0; (i + 1) * size <= item.data.size(); ++i) {
                std::uint64_t at = item.key.offset + i * super_.sectorsize;
                if (at < logical || at >= end) continue;
                std::size_t index = static_cast<std::size_t>((at - logical) / super_.sectorsize);
                out.there[index] = true;
                std::copy_n(item.data.begin() + static_cast<std::ptrdiff_t>(i * size), size,
                            out.sums.begin() + static_cast<std::ptrdiff_t>(index * size));
              }
              return true;
            });
  return out;
}

/// What a visit carries down. Keys must rise from item to item: a node that is in the tree twice ends it.
struct Volume::Walk {
  const Key& first;
  const Key& last;
  const std::function<bool(const Item&)>& visit;
  std::optional<Key> seen = {};
};

bool Volume::walk(Walk& walk, std::uint64_t at, unsigned level) const {
  BytesPtr raw = node(at, level);
  LittleFields f(*raw, "btrfs node", at);
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

void Volume::snapshots(const std::function<void(const Snapshot&)>& take) const {
  constexpr std::uint64_t kLastFree = static_cast<std::uint64_t>(-256);
  constexpr std::size_t flags_at = 208, parent_uuid_at = 263, otime_at = 339, root_item_size = 439,
                        backref_size = 18;
  std::vector<Snapshot> found;
  each_item(super_.root, {kFirstFree, 0, 0}, {kLastFree, 255, UINT64_MAX}, [&](const Item& item) {
    if (item.key.type == kRootItem && item.data.size() >= root_item_size) {
      LittleFields f(item.data, "btrfs root item");
      ByteView parent = f.bytes(parent_uuid_at, 16);
      if (std::all_of(parent.begin(), parent.end(), [](Byte b) { return b == 0; })) return true;
      found.push_back({item.key.objectid, "", time_of(f, otime_at), (f.u64(flags_at) & 1) != 0});
    } else if (item.key.type == kRootBackref && !found.empty() && found.back().number == item.key.objectid) {
      LittleFields f(item.data, "btrfs root backref");
      found.back().name = f.text(backref_size, f.u16(16));
    }
    return true;
  });
  for (const Snapshot& one : found) take(one);
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
  return make_file(shared_from_this(), std::move(extents), inode.size);
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
