#include "format/filesystem/jfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "format/filesystem/inode_entry.h"
#include "io/cached_source.h"

namespace operculum::jfs {
namespace {

constexpr std::uint64_t kAggregateInodesAt = 0xB000, kFileSetInode = 16;
constexpr std::uint8_t kLeaf = 2, kInternal = 4;        // BT_LEAF, BT_INTERNAL
constexpr std::uint8_t kNotRecorded = 8;                // XAD_NOTRECORDED: allocated, never written
constexpr std::uint8_t kInline = 0x40, kExtent = 0x20;  // DXD_INLINE, DXD_EXTENT
constexpr std::size_t kExtentEntry = size_on_disk<ExtentRow> + size_on_disk<BlockRun>;
constexpr std::size_t kFirstExtent = 2;  // in entries: the head takes the place of two
constexpr std::size_t kRootTable = 24;   // in a folder's root: its table of slots
constexpr std::size_t kInlineTargetAt = 256, kInlineTarget = 256, kInlineAttributesAt = 384,
                      kInlineAttributes = 128;
constexpr std::uint64_t kLargestAttributes = 1 << 20;

/// Names are in UTF-16. Linux without a character set of its own writes each byte as a unit instead.
std::string name_of(const std::u16string& units) {
  std::string bytes, raw;
  bool all_bytes = true;
  for (char16_t unit : units) {
    all_bytes = all_bytes && unit < 256;
    bytes += static_cast<char>(unit);
    raw += static_cast<char>(unit & 0xFF);
    raw += static_cast<char>(unit >> 8);
  }
  if (all_bytes && is_utf8(bytes)) return bytes;
  return to_utf8(raw, "UTF-16LE").value_or(bytes);
}

}  // namespace

Superblock read_superblock(ByteView raw) {
  if (raw.size() < size_on_disk<Superblock>) throw CutShort("JFS superblock: the image is cut short");
  Superblock super = read_structure<Superblock>(raw.data());
  auto refuse = [&](auto member, std::string_view expected, std::uint64_t found) {
    refuse_field("JFS superblock", kSuperAt, member, expected, fmt::format("{}", found));
  };
  if (as_text(super.magic) != "JFS1") throw Malformed("JFS superblock: the magic is missing");
  if (super.version != 1 && super.version != 2) refuse(&Superblock::version, "1 or 2", super.version);
  auto power = [](std::uint32_t value) {
    return value >= 512 && value <= 4096 && (value & (value - 1)) == 0;
  };
  if (!power(super.bsize)) refuse(&Superblock::bsize, "a power of two from 512 to 4096", super.bsize);
  if (!power(super.pbsize)) refuse(&Superblock::pbsize, "a power of two from 512 to 4096", super.pbsize);
  if (super.size == 0 || super.size > UINT64_MAX / super.pbsize)
    refuse(&Superblock::size, "the size of a disk", super.size);
  return super;
}

Volume::Volume(SourcePtr image) : image_(std::move(image)), meta_(make_cached(image_)) {
  Bytes raw = read_up_to(*image_, kSuperAt, size_on_disk<Superblock>);
  super_ = read_superblock(raw);
  Bytes map = read_exactly(*meta_, kAggregateInodesAt + kFileSetInode * kInodeSize, kInodeSize,
                           "JFS inode of the file set");
  Inode inode = read_structure<Inode>(map.data());
  inode_map_ = make_cached(
      make_extent_source(image_, extents(ByteView(map).subspan(kTreeAt), inode.size), inode.size));
}

Volume::Run Volume::run_of(const BlockRun& stated) {
  return {std::uint64_t{stated.len_addr >> 24} << 32 | stated.addr2, stated.len_addr & 0xFFFFFF};
}

std::uint64_t Volume::place_of(Run run, std::string_view what) const {
  std::uint64_t blocks = size() / super_.bsize;
  if (run.block == 0 || run.block >= blocks || run.count > blocks - run.block)
    throw Malformed(fmt::format("{}: blocks {} to {} are not among the file system's {}", what, run.block,
                                run.block + run.count, blocks));
  return run.block * super_.bsize;
}

std::vector<Extent> Volume::extents(ByteView root, std::uint64_t size) const {
  std::vector<Extent> out;
  Seen seen;
  extent_page(root, root.size() / kExtentEntry, seen, out);
  std::sort(out.begin(), out.end(), [](const Extent& a, const Extent& b) { return a.logical < b.logical; });
  std::erase_if(out, [&](const Extent& one) { return one.logical >= size; });
  if (!out.empty()) out.back().length = std::min(out.back().length, size - out.back().logical);
  return out;
}

void Volume::extent_page(ByteView page, std::size_t most, Seen& seen, std::vector<Extent>& out) const {
  LittleFields f(page, "JFS extent tree");
  auto head = structure_at<ExtentPageHead>(f, 0);
  std::uint8_t flag = head.flag;
  std::size_t count = head.nextindex;
  if ((flag & (kLeaf | kInternal)) == 0 || count < kFirstExtent || count > most)
    throw Malformed(
        fmt::format("JFS extent tree: expected a page with at most {} entries, found {}, flags {:#x}", most,
                    count, flag));
  for (std::size_t i = kFirstExtent; i < count; ++i) {
    auto row = structure_at<ExtentRow>(f, i * kExtentEntry);
    Run run = run_of(structure_at<BlockRun>(f, i * kExtentEntry + size_on_disk<ExtentRow>));
    std::uint64_t at = place_of(run, "JFS extent");
    if ((flag & kLeaf) == 0) {
      if (!seen.insert(run.block).second)
        throw Malformed(fmt::format("JFS extent tree: the page at block {} is met twice", run.block));
      extent_page(read_exactly(*meta_, at, kPage, "JFS extent tree"), kPage / kExtentEntry, seen, out);
    } else if ((row.flag & kNotRecorded) == 0) {
      std::uint64_t logical = (std::uint64_t{row.off1} << 32 | row.off2) * super_.bsize;
      out.push_back({logical, at, run.count * super_.bsize});
    }
  }
}

Inode Volume::inode(std::uint64_t number) const {
  constexpr std::uint64_t kInPage = 4096, kInExtent = 32, kExtentsAt = 3072;
  std::uint64_t pages = inode_map_->size() / kPage;
  if (pages < 2 || number / kInPage >= pages - 1)
    throw Malformed(fmt::format("inode {} is not one of the file set's {}", number, pages * kInPage));
  // the map's first page is its head
  constexpr std::size_t run_size = size_on_disk<BlockRun>;
  std::uint64_t spot = (number / kInPage + 1) * kPage + kExtentsAt + number % kInPage / kInExtent * run_size;
  Run run =
      run_of(read_structure<BlockRun>(read_exactly(*inode_map_, spot, run_size, "JFS inode map").data()));
  if (run.count == 0) throw Malformed(fmt::format("inode {} is not allocated", number));
  std::uint64_t at = place_of(run, "JFS inodes") + number % kInExtent * kInodeSize;
  Inode out;
  Bytes whole = read_exactly(*meta_, at, kInodeSize, "JFS inode");
  out = read_structure<Inode>(whole.data());
  if (out.number != number)
    throw Malformed(
        fmt::format("JFS inode at offset {}: expected di_number to be {}, found {}", at, number, out.number));
  out.whole = std::move(whole);
  return out;
}

SourcePtr Volume::data(const Inode& inode) const {
  return make_extent_source(image_, extents(ByteView(inode.whole).subspan(kTreeAt), inode.size), inode.size);
}

std::string Volume::link_target(const Inode& inode) const {
  if (inode.size < kInlineTarget)
    return std::string(
        as_text(ByteView(inode.whole).subspan(kInlineTargetAt, static_cast<std::size_t>(inode.size))));
  return link_target_in(*data(inode));
}

ExtendedAttributes Volume::attributes(const Inode& inode) const {
  ExtendedAttributes out;
  auto place = read_structure<DataPlace>(inode.ea.data());
  Bytes list;
  if ((place.flag & kInline) != 0) {
    ByteView kept = ByteView(inode.whole).subspan(kInlineAttributesAt, kInlineAttributes);
    list.assign(kept.begin(), kept.end());
  } else if ((place.flag & kExtent) != 0) {
    Run run = run_of(read_structure<BlockRun>(inode.ea.data() + size_on_disk<DataPlace>));
    list = read_up_to(*meta_, place_of(run, "JFS attributes"),
                      std::min({std::uint64_t{place.size}, run.count * super_.bsize, kLargestAttributes}));
  } else {
    return out;
  }
  LittleFields f(list, "JFS attributes");
  std::size_t end = std::min<std::size_t>(structure_at<AttributeList>(f, 0).size, list.size());
  for (std::size_t at = size_on_disk<AttributeList>; at + size_on_disk<AttributeHead> < end;) {
    auto head = structure_at<AttributeHead>(f, at);
    std::size_t name_at = at + size_on_disk<AttributeHead>, value_at = name_at + head.namelen + 1;
    if (value_at + head.valuelen > end)
      throw Malformed(fmt::format("inode {}: an extended attribute does not fit its list", inode.number));
    out.emplace_back(f.text(name_at, head.namelen), f.text(value_at, head.valuelen));
    at = value_at + head.valuelen;
  }
  return out;
}

std::string Volume::name_at(ByteView page, std::size_t slot, bool leaf) const {
  LittleFields f(page, "JFS folder");
  std::size_t at = slot * kSlot;
  // a head: where the name goes on, its length, the first part; the rest in slots of 15 units
  std::size_t front = leaf ? 4 : size_on_disk<BlockRun>;  // an inode, or where the page below lies
  auto head = structure_at<NameSlot>(f, at + front);
  std::size_t left = head.cnt, part = leaf && !super_.has_index() ? 13 : 11;
  std::size_t text_at = at + front + size_on_disk<NameSlot>;
  auto next = static_cast<std::int8_t>(head.next);
  std::u16string units;
  while (true) {
    for (std::size_t i = 0; i < std::min(left, part); ++i)
      units += static_cast<char16_t>(f.u16(text_at + i * 2));
    left -= std::min(left, part);
    if (left == 0) return name_of(units);
    if (next < 0) throw Malformed("JFS folder: a name ends before its length");
    std::size_t more = static_cast<std::size_t>(next) * kSlot;
    next = static_cast<std::int8_t>(structure_at<NameSlot>(f, more).next);
    part = 15;
    text_at = more + size_on_disk<NameSlot>;
  }
}

void Volume::folder_page(ByteView page, std::size_t table_at, std::size_t count, Seen& seen,
                         const std::function<void(FolderItem&&)>& take, std::string& wrong) const {
  LittleFields f(page, "JFS folder");
  bool leaf = (structure_at<NamePageHead>(f, 0).flag & kLeaf) != 0;
  for (std::size_t i = 0; i < count; ++i) {
    try {
      std::size_t slot = f.u8(table_at + i);
      if (leaf) {
        take({name_at(page, slot, true), structure_at<LeafName>(f, slot * kSlot).inumber});
        continue;
      }
      Run run = run_of(structure_at<BlockRun>(f, slot * kSlot));
      if (!seen.insert(run.block).second)
        throw Malformed(fmt::format("JFS folder: the page at block {} is met twice", run.block));
      Bytes child = read_exactly(*meta_, place_of(run, "JFS folder"), kPage, "JFS folder");
      auto head = read_structure<NamePageHead>(child.data());
      folder_page(child, std::size_t{head.stblindex} * kSlot, head.nextindex, seen, take, wrong);
    } catch (const Malformed& error) {
      wrong = error.what();
    }
  }
}

void Volume::list_folder(const Inode& folder, const std::function<void(FolderItem&&)>& take) const {
  ByteView root = ByteView(folder.whole).subspan(kTreeAt);
  std::size_t count = read_structure<NamePageHead>(root.data()).nextindex;
  if (count > 8)
    throw Malformed(fmt::format("JFS folder: expected at most 8 entries in its root, found {}", count));
  Seen seen;
  std::string wrong;
  folder_page(root, kRootTable, count, seen, take, wrong);
  if (!wrong.empty()) throw Malformed(wrong);
}

}  // namespace operculum::jfs
