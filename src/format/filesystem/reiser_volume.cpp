#include "format/filesystem/reiser_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/structure_fields.h"
#include "base/text.h"
#include "format/filesystem/indirect_blocks.h"
#include "io/cached_source.h"

namespace operculum::reiser {
namespace {

/// struct block_head, in front of each block of the tree. Level 1 holds items, higher ones keys and, behind
/// them, children.
struct BlockHead {
  std::uint16_t level = 0, items = 0;
  static constexpr auto layout = little_endian(field("blk_level", &BlockHead::level),
                                               field("blk_nr_item", &BlockHead::items), from_byte<24>());
};
/// struct reiserfs_key. The last two numbers are one in format 3.6: the offset in 60 bits, and the type.
struct KeyRecord {
  std::uint32_t folder = 0, object = 0, offset = 0, uniqueness = 0;
  static constexpr auto layout =
      little_endian(field("k_dir_id", &KeyRecord::folder), field("k_objectid", &KeyRecord::object),
                    field("k_offset", &KeyRecord::offset), field("k_uniqueness", &KeyRecord::uniqueness));
};
/// struct disk_child.
struct Child {
  std::uint32_t block = 0;
  std::uint16_t size = 0, reserved = 0;
  static constexpr auto layout =
      little_endian(field("dc_block_number", &Child::block), field("dc_size", &Child::size),
                    field("dc_reserved", &Child::reserved));
};
/// struct item_head behind its key.
struct ItemHead {
  std::uint16_t entries = 0, length = 0, location = 0, version = 0;
  static constexpr auto layout =
      little_endian(from_byte<size_on_disk<KeyRecord>>(), field("ih_entry_count", &ItemHead::entries),
                    field("ih_item_len", &ItemHead::length), field("ih_item_location", &ItemHead::location),
                    field("ih_version", &ItemHead::version));
};
/// struct reiserfs_de_head.
struct EntryHead {
  std::uint32_t offset = 0, folder = 0, object = 0;
  std::uint16_t location = 0, state = 0;
  static constexpr auto layout =
      little_endian(field("deh_offset", &EntryHead::offset), field("deh_dir_id", &EntryHead::folder),
                    field("deh_objectid", &EntryHead::object), field("deh_location", &EntryHead::location),
                    field("deh_state", &EntryHead::state));
};
constexpr std::size_t kHeadSize = size_on_disk<BlockHead>, kKeySize = size_on_disk<KeyRecord>,
                      kChildSize = size_on_disk<Child>, kItemHeadSize = size_on_disk<ItemHead>,
                      kEntrySize = size_on_disk<EntryHead>;
constexpr unsigned kDeepest = 7;  // MAX_HEIGHT
constexpr std::uint16_t kVisible = 4;

/// struct stat_data, format 3.6.
struct StatData {
  std::uint16_t mode = 0;
  std::uint32_t nlink = 0;
  std::uint64_t size = 0;
  std::uint32_t uid = 0, gid = 0, atime = 0, mtime = 0, ctime = 0, blocks = 0, rdev = 0;
  static constexpr auto layout =
      little_endian(field("sd_mode", &StatData::mode), from_byte<4>(), field("sd_nlink", &StatData::nlink),
                    field("sd_size", &StatData::size), field("sd_uid", &StatData::uid),
                    field("sd_gid", &StatData::gid), field("sd_atime", &StatData::atime),
                    field("sd_mtime", &StatData::mtime), field("sd_ctime", &StatData::ctime),
                    field("sd_blocks", &StatData::blocks), field("sd_rdev", &StatData::rdev));
};

/// struct stat_data_v1, format 3.5.
struct OldStatData {
  std::uint16_t mode = 0, nlink = 0, uid = 0, gid = 0;
  std::uint32_t size = 0, atime = 0, mtime = 0, ctime = 0, rdev = 0;
  static constexpr auto layout =
      little_endian(field("sd_mode", &OldStatData::mode), field("sd_nlink", &OldStatData::nlink),
                    field("sd_uid", &OldStatData::uid), field("sd_gid", &OldStatData::gid),
                    field("sd_size", &OldStatData::size), field("sd_atime", &OldStatData::atime),
                    field("sd_mtime", &OldStatData::mtime), field("sd_ctime", &OldStatData::ctime),
                    field("sd_rdev", &OldStatData::rdev));
};

Id id_in(ByteView key) {
  auto stored = structure_in<KeyRecord>(key, "ReiserFS key");
  return {stored.folder, stored.object};
}

/// Offset and kind of a key: 60 and 4 bits, or, in format 3.5, 32 bits each.
void read_key(ByteView key, Item& item) {
  auto stored = structure_in<KeyRecord>(key, "ReiserFS key");
  std::uint64_t both = std::uint64_t{stored.uniqueness} << 32 | stored.offset;
  if (unsigned kind = static_cast<unsigned>(both >> 60); kind >= 1 && kind <= 3) {
    constexpr ItemKind kKinds[] = {ItemKind::stat, ItemKind::indirect, ItemKind::direct, ItemKind::folder};
    item.kind = kKinds[kind];
    item.offset = both & ((std::uint64_t{1} << 60) - 1);
    return;
  }
  item.offset = stored.offset;
  switch (stored.uniqueness) {
    case 0:
      item.kind = ItemKind::stat;
      break;
    case 0xFFFFFFFE:
      item.kind = ItemKind::indirect;
      break;
    case 0xFFFFFFFF:
      item.kind = ItemKind::direct;
      break;
    case 500:
      item.kind = ItemKind::folder;
      break;
    default:
      item.kind = ItemKind::other;
  }
}

template <typename S>
Stat stat_from(const S& d, std::uint64_t blocks) {
  return {d.mode,
          d.nlink,
          d.uid,
          d.gid,
          d.rdev,
          d.size,
          blocks,
          from_unix(d.atime),
          from_unix(d.mtime),
          from_unix(d.ctime),
          {}};
}

Stat stat_of(const Item& item) {
  if (item.body.size() >= size_on_disk<StatData>) {
    StatData data = read_structure<StatData>(item.body.data());
    return stat_from(data, data.blocks);
  }
  if (item.body.size() >= size_on_disk<OldStatData>) {
    OldStatData data = read_structure<OldStatData>(item.body.data());
    return stat_from(data, (std::uint64_t{data.size} + 511) / 512);
  }
  throw Malformed(fmt::format("ReiserFS stat data at offset {}: expected {} bytes or {}, found {}", item.at,
                              size_on_disk<OldStatData>, size_on_disk<StatData>, item.body.size()));
}

}  // namespace

Superblock read_superblock(ByteView raw, std::uint64_t at) {
  if (raw.size() < kSuperSize) throw CutShort("ReiserFS superblock: the image is cut short");
  Superblock super = read_structure<Superblock>(raw.data());
  std::string_view magic = as_text(super.magic);
  if (!magic.starts_with("ReIsErFs") && !magic.starts_with("ReIsEr2Fs") && !magic.starts_with("ReIsEr3Fs"))
    throw Malformed("ReiserFS superblock: the magic is missing");
  if (super.blocksize < 512 || super.blocksize > 32768 || (super.blocksize & (super.blocksize - 1)) != 0)
    refuse_field("ReiserFS superblock", at, &Superblock::blocksize, "a power of two from 512 to 32768",
                 fmt::format("{}", super.blocksize));
  if (super.tree_height < 2 || super.tree_height > kDeepest)
    refuse_field("ReiserFS superblock", at, &Superblock::tree_height, fmt::format("2 to {}", kDeepest),
                 fmt::format("{}", super.tree_height));
  if (super.root_block >= super.block_count)
    refuse_field("ReiserFS superblock", at, &Superblock::root_block,
                 fmt::format("below {}", super.block_count), fmt::format("{}", super.root_block));
  return super;
}

Volume::Volume(SourcePtr image) : image_(std::move(image)), meta_(make_cached(image_)) {
  std::string wrong;
  for (std::uint64_t at : kSuperPlaces) {
    try {
      super_ = read_superblock(read_up_to(*image_, at, kSuperSize), at);
      return;
    } catch (const Malformed& error) {
      if (wrong.empty()) wrong = error.what();
    }
  }
  throw Malformed(wrong);
}

void Volume::items_of(Id id, const ItemSink& take) const {
  Descent descent{id, take, {}};
  in_block(super_.root_block, super_.tree_height - 1U, descent);
}

bool Volume::in_block(std::uint64_t number, unsigned level, Descent& descent) const {
  if (number == 0 || number >= super_.block_count)
    throw Malformed(fmt::format("ReiserFS tree: block {} is not one of the file system's {}", number,
                                super_.block_count));
  if (!descent.seen.insert(number).second)
    throw Malformed(fmt::format("ReiserFS tree: block {} is met twice", number));
  std::uint64_t at = number * super_.blocksize;
  Bytes block = read_exactly(*meta_, at, super_.blocksize, "ReiserFS tree");
  LittleFields f(block, "ReiserFS tree", at);
  auto head = structure_at<BlockHead>(f, 0);
  std::size_t count = head.items;
  if (head.level != level)
    throw Malformed(fmt::format("ReiserFS tree: expected block {} to be of level {}, found {}", number, level,
                                head.level));
  if (level == 1) return in_leaf(block, at, descent);
  std::size_t children = kHeadSize + count * kKeySize;
  f.bytes(children, (count + 1) * kChildSize);  // all of them are there
  for (std::size_t i = 0; i <= count; ++i) {
    // a child has what is not below the key before it and not above the one behind it
    if (i > 0 && descent.id < id_in(f.bytes(kHeadSize + (i - 1) * kKeySize, kKeySize))) break;
    if (i < count && id_in(f.bytes(kHeadSize + i * kKeySize, kKeySize)) < descent.id) continue;
    if (!in_block(structure_at<Child>(f, children + i * kChildSize).block, level - 1, descent)) return false;
  }
  return true;
}

bool Volume::in_leaf(ByteView block, std::uint64_t at, Descent& descent) const {
  LittleFields f(block, "ReiserFS leaf", at);
  std::size_t count = structure_at<BlockHead>(f, 0).items;
  for (std::size_t i = 0; i < count; ++i) {
    ByteView head = f.bytes(kHeadSize + i * kItemHeadSize, kItemHeadSize);
    Id id = id_in(head);
    if (id < descent.id) continue;
    if (descent.id < id) return false;
    auto stored = read_structure<ItemHead>(head.data());
    Item item;
    read_key(head, item);
    item.entries = stored.entries;
    item.body = f.bytes(stored.location, stored.length);
    item.at = at + stored.location;
    if (!descent.take(item)) return false;
  }
  return true;
}

Stat Volume::stat(Id id) const {
  std::optional<Stat> found;
  items_of(id, [&](const Item& item) {
    if (item.kind == ItemKind::stat) found = stat_of(item);
    return !found;
  });
  if (!found) throw Malformed(fmt::format("object {} of folder {} has no stat data", id.object, id.folder));
  return *found;
}

SourcePtr Volume::data(Id id, std::uint64_t size) const {
  std::vector<Extent> out;
  items_of(id, [&](const Item& item) {
    if (item.kind != ItemKind::indirect && item.kind != ItemKind::direct) return true;
    std::uint64_t logical = item.offset - 1;
    if (item.offset == 0 || logical >= size) return true;
    if (item.kind == ItemKind::direct) {
      add_extent(out, {logical, item.at, std::min<std::uint64_t>(item.body.size(), size - logical)});
      return true;
    }
    LittleFields pointers(item.body, "ReiserFS block pointers", item.at);
    for (std::size_t i = 0; i + 4 <= item.body.size() && logical < size; i += 4) {
      std::uint64_t block = pointers.u32(i);
      if (block >= super_.block_count)
        throw Malformed(
            fmt::format("block {} is not one of the file system's {}", block, super_.block_count));
      std::uint64_t length = std::min<std::uint64_t>(super_.blocksize, size - logical);
      if (block != 0) add_extent(out, {logical, block * super_.blocksize, length});
      logical += super_.blocksize;
    }
    return true;
  });
  return make_extent_source(image_, std::move(out), size);
}

void Volume::list_folder(Id id, const std::function<void(FolderItem&&)>& take) const {
  items_of(id, [&](const Item& item) {
    if (item.kind != ItemKind::folder) return true;
    LittleFields f(item.body, "ReiserFS folder", item.at);
    std::size_t end = item.body.size();  // names lie from the end backwards
    for (std::size_t i = 0; i < item.entries; ++i) {
      auto entry = structure_at<EntryHead>(f, i * kEntrySize);
      std::size_t at = entry.location;
      if (at > end)
        throw Malformed(
            fmt::format("ReiserFS folder at offset {}: expected a name before byte {}, found it at {}",
                        item.at, end, at));
      std::string_view name = f.text(at, end - at);
      name = until_zero(name);
      end = at;
      if ((entry.state & kVisible) == 0 || name == "." || name == "..") continue;
      take({std::string(name), {entry.folder, entry.object}});
    }
    return true;
  });
}

}  // namespace operculum::reiser
