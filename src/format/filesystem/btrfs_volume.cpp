#include "format/filesystem/btrfs_volume.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/checksum.h"
#include "base/fields.h"
#include "base/text.h"
#include "base/units.h"

namespace operculum::btrfs {
namespace {

constexpr std::uint64_t kSumTree = 7, kSumObject = static_cast<std::uint64_t>(-10);
constexpr unsigned kHighest = 8;  // BTRFS_MAX_LEVEL

constexpr std::uint64_t kExtentTree2 = 1 << 13, kRaidStripeTree = 1 << 14;

/// A record at the front of some bytes; throws Malformed where they are too few.
template <typename S>
S record_of(ByteView bytes, std::string_view what) {
  Cursor cursor(bytes, what);
  return read_structure<S>(cursor);
}

Key read_key(ByteView bytes, std::string_view what) {
  auto key = record_of<KeyRecord>(bytes, what);
  return {key.objectid, key.type, key.offset};
}

/// Whether a block fits the checksum in its first bytes.
bool fits_sum(ByteView block, std::uint16_t type) {
  return has_sum(type, block.subspan(kSumSize), block.first(kSumSize));
}
std::string told_sum_of(ByteView block, std::uint16_t type) {
  return told_sum(type, block.subspan(kSumSize), block.first(kSumSize));
}

Timestamp time_of(std::uint64_t seconds, std::uint32_t nanoseconds) {
  return from_unix(static_cast<std::int64_t>(seconds), std::min<std::uint32_t>(nanoseconds, 999'999'999));
}

/// Throws Malformed unless a number of the superblock is a power of two that can be.
void check_power(std::uint32_t SuperRecord::*member, std::uint32_t value, std::uint32_t least) {
  constexpr std::uint32_t kMost = 65536;
  if (value >= least && value <= kMost && std::has_single_bit(value)) return;
  throw Malformed(fmt::format("btrfs superblock: expected {} to be a power of two from {} to {}, found {}",
                              place_of(member).name, grouped(least), grouped(kMost), value));
}

/// An item of extent_data.
FileExtent file_extent(const Item& item, std::uint64_t inode) {
  auto head = record_of<ExtentHead>(item.data, "btrfs extent");
  constexpr std::uint8_t kNewest = 3;  // compression
  if (head.encryption != 0 || head.other_encoding != 0)
    throw Unsupported("encrypted or otherwise encoded extents of btrfs");
  if (head.compression > kNewest) throw Unsupported(fmt::format("btrfs compression {}", head.compression));
  FileExtent out;
  out.offset = item.key.offset;
  out.unpacked_length = head.ram_bytes;
  out.compression = head.compression;
  ByteView behind = item.data.subspan(size_on_disk<ExtentHead>);
  switch (head.type) {
    case ExtentHead::within:
      out.kind = FileExtent::Kind::within;
      out.inline_data.assign(behind.begin(), behind.end());
      out.length = out.unpacked_length;
      return out;
    case ExtentHead::regular:
    case ExtentHead::preallocated: {
      auto rest = record_of<ExtentRest>(behind, "btrfs extent");
      out.stored_at = rest.disk_bytenr;
      out.stored_length = rest.disk_num_bytes;
      out.skip = rest.offset;
      out.length = rest.num_bytes;
      bool hole = head.type == ExtentHead::preallocated || out.stored_at == 0;  // allocated, never written
      out.kind = hole                   ? FileExtent::Kind::hole
                 : out.compression != 0 ? FileExtent::Kind::packed
                                        : FileExtent::Kind::plain;
      return out;
    }
    default:
      throw Malformed(
          fmt::format("btrfs extent of inode {}: expected type 0 to 2, found {}", inode, head.type));
  }
}

}  // namespace

Superblock read_superblock(ByteView bytes) {
  auto raw = record_of<SuperRecord>(bytes, "btrfs superblock");
  if (as_text(raw.magic) != kMagic) throw Malformed("btrfs superblock: expected the magic \"_BHRfS_M\"");
  Superblock s;
  s.sum_type = raw.csum_type;
  if (s.sum_type > blake2b_sum)
    throw Malformed(fmt::format("btrfs superblock: expected csum_type to be 0 to 3, found {}", s.sum_type));
  if (bytes.size() < kSuperSize) throw CutShort("btrfs superblock: it is cut short");
  if (ByteView summed = bytes.first(kSuperSize); !fits_sum(summed, s.sum_type))
    throw Malformed("btrfs superblock: it does not fit its checksum" + told_sum_of(summed, s.sum_type));
  s.fsid.assign(raw.fsid.begin(), raw.fsid.end());
  s.generation = raw.generation;
  s.root = {raw.root, raw.root_level};
  s.chunk_root = {raw.chunk_root, raw.chunk_root_level};
  s.log_root = {raw.log_root, raw.log_root_level};
  s.total_bytes = raw.total_bytes;
  s.bytes_used = raw.bytes_used;
  s.devices = raw.num_devices;
  s.sectorsize = raw.sectorsize;
  s.nodesize = raw.nodesize;
  s.incompat = raw.incompat_flags;
  s.device = raw.devid;
  s.device_bytes = raw.device_bytes;
  s.device_uuid.assign(raw.device_uuid.begin(), raw.device_uuid.end());
  std::string_view label = as_text(raw.label);
  s.label = until_zero(label);
  check_power(&SuperRecord::sectorsize, s.sectorsize, 512);
  check_power(&SuperRecord::nodesize, s.nodesize, 4096);
  for (const Tree& tree : {s.root, s.chunk_root}) {
    if (tree.level >= kHighest)
      throw Malformed(fmt::format("btrfs superblock: expected a tree of level 0 to 7, found {}", tree.level));
  }
  constexpr std::uint32_t kMost = 2048;
  if (raw.sys_chunk_array_size > kMost)
    throw Malformed(fmt::format("btrfs superblock: expected sys_chunk_array_size to be at most {}, found {}",
                                kMost, raw.sys_chunk_array_size));
  ByteView chunks = bytes.subspan(size_on_disk<SuperRecord>, raw.sys_chunk_array_size);
  s.first_chunks.assign(chunks.begin(), chunks.end());
  return s;
}

Volume::Volume(Superblock super, Devices devices)
    : super_(std::move(super)), chunks_(std::make_shared<Chunks>(std::move(devices))) {
  if ((super_.incompat & (kExtentTree2 | kRaidStripeTree)) != 0)
    throw Unsupported(fmt::format("btrfs with the features 0x{:x}", super_.incompat));
  LittleFields chunks(super_.first_chunks, "btrfs chunks");
  for (std::size_t at = 0; at + kKeySize + size_on_disk<ChunkItem> <= chunks.size();) {
    Key key = read_key(chunks.bytes(at, kKeySize), "btrfs chunks");
    at += kKeySize;
    auto chunk = record_of<ChunkItem>(chunks.bytes(at, size_on_disk<ChunkItem>), "btrfs chunk");
    std::size_t size = size_on_disk<ChunkItem> + chunk.num_stripes * size_on_disk<StripeRecord>;
    chunks_->add(key.offset, chunks.bytes(at, size));
    at += size;
  }
  std::vector<std::pair<Key, Bytes>> found;
  each_item(super_.chunk_root, {kFirstFree, chunk_item, 0}, {kFirstFree, chunk_item, UINT64_MAX},
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
  if (!fits_sum(raw, super_.sum_type))
    throw Malformed(fmt::format("btrfs node at address {}: it does not fit its checksum{}", at,
                                told_sum_of(raw, super_.sum_type)));
  auto head = read_structure<NodeHead>(raw.data());
  if (head.bytenr != at || head.level != level)
    throw Malformed(fmt::format("btrfs node at address {}: expected bytenr {} and level {}, found {} and {}",
                                at, at, level, head.bytenr, head.level));
  return raw;
}

/// Another copy is read where one is damaged.
BytesPtr Volume::node(std::uint64_t at, unsigned level) const {
  BytesPtr found = nodes_.get(at, [&] {
    Bytes raw;
    chunks_->any_copy(at, [&](std::size_t copy) { raw = read_node(at, level, copy); });
    return raw;
  });
  if (read_field(&NodeHead::level, found->data()) != level)  // it is kept for another place in the tree
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
  each_item(*sums_, {kSumObject, extent_sum, logical - std::min(logical, reach)},
            {kSumObject, extent_sum, end - 1}, [&](const Item& item) {
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
  LittleFields body(ByteView(*raw).subspan(kNodeHead), "btrfs node", at);
  std::size_t count = read_field(&NodeHead::nritems, raw->data());
  std::size_t entry = kKeySize + (level == 0 ? size_on_disk<LeafRest> : size_on_disk<PointerRest>);
  std::size_t most = body.size() / entry;
  if (count > most)
    throw Malformed(fmt::format("btrfs node at {}: expected at most {} items, found {}", at, most, count));
  auto key_at = [&](std::size_t i) { return read_key(body.bytes(i * entry, kKeySize), "btrfs key"); };
  auto rest_at = [&](std::size_t i) { return body.bytes(i * entry + kKeySize, entry - kKeySize).data(); };
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
      if (!this->walk(walk, read_structure<PointerRest>(rest_at(i)).blockptr, level - 1)) return false;
      continue;
    }
    if (walk.seen && !(*walk.seen < key))
      throw Malformed(fmt::format("btrfs node at {}: its keys do not rise", at));
    walk.seen = key;
    auto place = read_structure<LeafRest>(rest_at(i));
    if (!walk.visit({key, body.bytes(place.offset, place.size)})) return false;
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
  each_item(super_.root, {number, root_item, 0}, {number, root_item, UINT64_MAX}, [&](const Item& item) {
    auto root = record_of<RootItem>(item.data, "btrfs root item");
    found = Tree{root.bytenr, root.level};
    if (found->level >= kHighest)
      throw Malformed(
          fmt::format("btrfs root item {}: expected a level of 0 to 7, found {}", number, found->level));
    return true;
  });
  return found;
}

void Volume::snapshots(const std::function<void(const Snapshot&)>& take) const {
  constexpr std::uint64_t kLastFree = static_cast<std::uint64_t>(-256);
  std::vector<Snapshot> found;
  each_item(super_.root, {kFirstFree, 0, 0}, {kLastFree, 255, UINT64_MAX}, [&](const Item& item) {
    if (item.key.type == root_item && item.data.size() >= size_on_disk<LongRootItem>) {
      auto root = read_structure<LongRootItem>(item.data.data());
      bool is_copy =
          std::any_of(root.parent_uuid.begin(), root.parent_uuid.end(), [](Byte b) { return b != 0; });
      if (is_copy)
        found.push_back({item.key.objectid, "", time_of(root.otime_sec, root.otime_nsec),
                         (root.flags & LongRootItem::kReadOnly) != 0});
    } else if (item.key.type == root_backref && !found.empty() && found.back().number == item.key.objectid) {
      auto ref = record_of<RootRef>(item.data, "btrfs root backref");
      found.back().name =
          LittleFields(item.data, "btrfs root backref").text(size_on_disk<RootRef>, ref.name_len);
    }
    return true;
  });
  for (const Snapshot& one : found) take(one);
}

Inode Volume::inode(const Tree& tree, std::uint64_t number) const {
  std::optional<Inode> found;
  each_item(tree, {number, inode_item, 0}, {number, inode_item, UINT64_MAX}, [&](const Item& item) {
    auto raw = record_of<InodeItem>(item.data, "btrfs inode");
    Inode out;
    out.number = number;
    out.size = raw.size;
    out.bytes = raw.nbytes;
    out.links = raw.nlink;
    out.uid = raw.uid;
    out.gid = raw.gid;
    out.mode = raw.mode;
    out.device = raw.rdev;
    out.flags = raw.flags;
    out.accessed = time_of(raw.atime_sec, raw.atime_nsec);
    out.changed = time_of(raw.ctime_sec, raw.ctime_nsec);
    out.modified = time_of(raw.mtime_sec, raw.mtime_nsec);
    out.created = time_of(raw.otime_sec, raw.otime_nsec);
    found = out;
    return false;
  });
  if (!found) throw Malformed(fmt::format("btrfs: there is no inode {}", number));
  return *found;
}

SourcePtr Volume::data(const Tree& tree, const Inode& inode) const {
  std::vector<FileExtent> extents;
  each_item(tree, {inode.number, extent_data, 0}, {inode.number, extent_data, UINT64_MAX},
            [&](const Item& item) {
              extents.push_back(file_extent(item, inode.number));
              return true;
            });
  return make_file(shared_from_this(), std::move(extents), inode.size);
}

void each_name(ByteView item, const std::function<void(const Named&)>& visit) {
  LittleFields f(item, "btrfs name");
  constexpr std::size_t kHead = kKeySize + size_on_disk<NameItem>;
  for (std::size_t at = 0; at + kHead <= item.size();) {
    Named out;
    out.location = read_key(f.bytes(at, kKeySize), "btrfs name");
    auto head = read_structure<NameItem>(item.data() + at + kKeySize);
    at += kHead;
    out.type = head.type;
    out.name = f.text(at, head.name_len);
    out.value = f.text(at + head.name_len, head.data_len);
    visit(out);
    at += std::size_t{head.name_len} + head.data_len;
  }
}

}  // namespace operculum::btrfs
