#include "format/filesystem/xfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/fields.h"
#include "io/cached_source.h"

namespace operculum::xfs {
namespace {

constexpr std::uint32_t kMagic = 0x58465342;                                // "XFSB"
constexpr std::uint16_t kInodeMagic = 0x494E;                               // "IN"
constexpr std::uint32_t kTreeMagic = 0x424D4150, kTreeMagic5 = 0x424D4133;  // "BMAP", "BMA3"
constexpr std::size_t sb_crc_at = 224, di_crc_at = 100, bb_crc_at = 64;
constexpr std::size_t inode_core_size = 100, inode_core_size5 = 176;
constexpr std::size_t tree_header_size = 24, tree_header_size5 = 72, extent_size = 16;

// The log: sectors, and what a record's header begins with (h_magicno).
constexpr std::uint64_t kSector = 512;
constexpr std::uint32_t kRecord = 0xFEEDBABE;

// sb_versionnum and sb_features2 of version 4, sb_features_incompat of version 5.
constexpr std::uint16_t kDirectory2 = 0x2000, kMoreBits = 0x8000;
constexpr std::uint32_t kFileTypes4 = 0x200;
enum Incompat : std::uint32_t {
  kFileTypes = 1,
  kSparseInodes = 2,
  kMetaUuid = 4,
  kBigTime = 8,
  kNeedsRepair = 0x10,
  kLargeCounts = 0x20,
  kExchange = 0x40,
  kParents = 0x80,
  kMetaFolder = 0x100,
};
constexpr std::uint32_t kKnown = kFileTypes | kSparseInodes | kMetaUuid | kBigTime | kNeedsRepair |
                                 kLargeCounts | kExchange | kParents | kMetaFolder;

// di_flags and di_flags2.
constexpr std::uint16_t kRealTime = 1;
constexpr std::uint64_t kBigTimeInode = 8, kLargeCountsInode = 16;

bool is_power_of_two(std::uint64_t value) {
  return value != 0 && (value & (value - 1)) == 0;
}

bool is_two_to(std::uint64_t value, unsigned exponent) {
  return exponent < 64 && value == std::uint64_t{1} << exponent;
}

/// Seconds and nanoseconds; or, since 2020, nanoseconds from the smallest 32-bit time on.
Timestamp time_of(const BigFields& f, std::size_t at, bool big) {
  constexpr std::uint64_t kNano = 1'000'000'000, kEpoch = std::uint64_t{1} << 31;
  if (!big)
    return from_unix(static_cast<std::int32_t>(f.u32(at)), std::min<std::uint32_t>(f.u32(at + 4), kNano - 1));
  std::uint64_t value = f.u64(at);
  return from_unix(static_cast<std::int64_t>(value / kNano) - static_cast<std::int64_t>(kEpoch),
                   static_cast<std::uint32_t>(value % kNano));
}

}  // namespace

bool fits_checksum(ByteView bytes, std::size_t at) {
  constexpr Byte kZeros[4] = {};
  if (bytes.size() < at + sizeof kZeros) return false;
  std::uint32_t sum = crc32c(crc32c(crc32c(~0U, bytes.first(at)), kZeros), bytes.subspan(at + sizeof kZeros));
  return ~sum == load_little<std::uint32_t>(bytes.data() + at);
}

bool Superblock::needs_repair() const {
  return has_checksums() && (features_incompat & kNeedsRepair) != 0;
}

bool Superblock::has_file_types() const {
  if (has_checksums()) return (features_incompat & kFileTypes) != 0;
  return (versionnum & kMoreBits) != 0 && (features2 & kFileTypes4) != 0;
}

Superblock read_superblock(ByteView bytes) {
  constexpr std::string_view kWhat = "XFS superblock";
  if (bytes.size() < size_on_disk<Superblock>) throw CutShort("XFS superblock: it is cut short");
  auto s = read_structure<Superblock>(bytes.data());
  auto refuse = [&](auto member, std::string_view expected) {
    refuse_field(kWhat, 0, member, expected, fmt::format("{}", s.*member));
  };
  if (s.magic != kMagic) refuse(&Superblock::magic, "\"XFSB\"");
  unsigned version = s.versionnum & 15;
  if (version < 1 || version > 5) refuse(&Superblock::versionnum, "of version 1 to 5");
  if (s.blocksize < 512 || s.blocksize > 65536 || !is_two_to(s.blocksize, s.blocklog))
    refuse(&Superblock::blocksize, "a power of two from 512 to 65,536 that agrees with sb_blocklog");
  if (!is_power_of_two(s.sectsize) || s.sectsize < 512 || s.sectsize > kLargestSector)
    refuse(&Superblock::sectsize, "a power of two from 512 to 32,768");
  if (s.inodesize < 256 || s.inodesize > 2048 || s.inodesize > s.blocksize ||
      !is_two_to(s.inodesize, s.inodelog) || s.inopblog != s.blocklog - s.inodelog)
    refuse(&Superblock::inodesize,
           "a power of two from 256 to 2,048 that agrees with sb_inodelog and sb_inopblog");
  if (s.agblocks == 0 || s.agblklog > 31 || s.agblocks > 1u << s.agblklog)
    refuse(&Superblock::agblocks, "at least 1 and within sb_agblklog bits");
  if (s.agcount == 0 || s.dblocks == 0 || (s.dblocks - 1) / s.agblocks != s.agcount - 1)
    refuse(&Superblock::agcount, "as many as sb_dblocks need");
  if (s.dblocks > static_cast<std::uint64_t>(INT64_MAX) / s.blocksize)
    refuse(&Superblock::dblocks, "no more than any file can have");
  if (s.blocklog + s.dirblklog > 16)
    refuse(&Superblock::dirblklog, "for folder blocks of at most 65,536 bytes");
  if (version == 5 && (bytes.size() < s.sectsize || !fits_checksum(bytes.first(s.sectsize), sb_crc_at)))
    throw Malformed("XFS superblock: it does not fit its checksum (sb_crc)");
  return s;
}

Volume::Volume(SourcePtr image) : image_(std::move(image)), meta_(make_cached(image_)) {
  super_ = read_superblock(read_up_to(*meta_, 0, kLargestSector));
  if ((super_.versionnum & 15) < 4 || (!super_.has_checksums() && (super_.versionnum & kDirectory2) == 0))
    throw Unsupported("XFS with folders of version 1, which no system has made since 2002");
  if (super_.has_checksums() && (super_.features_incompat & ~kKnown) != 0)
    throw Unsupported(fmt::format("XFS with the features 0x{:x}", super_.features_incompat & ~kKnown));
}

std::uint64_t Volume::place_of_block(std::uint64_t block) const {
  std::uint64_t group = block >> super_.agblklog,
                within = block & ((std::uint64_t{1} << super_.agblklog) - 1);
  std::uint64_t number = group * super_.agblocks + within;
  if (group >= super_.agcount || within >= super_.agblocks || number >= super_.dblocks)
    throw Malformed(fmt::format("XFS: block {} of group {} lies outside of the file system", within, group));
  return number * super_.blocksize;
}

Inode Volume::inode(std::uint64_t number) const {
  std::uint64_t within = number & ((std::uint64_t{1} << super_.inopblog) - 1);
  std::uint64_t at = place_of_block(number >> super_.inopblog) + within * super_.inodesize;
  std::string what = fmt::format("XFS inode {}", number);
  Bytes raw = read_exactly(*meta_, at, super_.inodesize, what.c_str());
  BigFields f(raw, what, at);
  if (f.u16(0) != kInodeMagic)
    throw Malformed(
        fmt::format("{} at offset {}: expected di_magic to be \"IN\", found 0x{:04x}", what, at, f.u16(0)));
  unsigned version = f.u8(4);
  bool wide = version >= 3;
  std::uint64_t flags2 = wide ? f.u64(120) : 0;
  bool big_time = (flags2 & kBigTimeInode) != 0, large_counts = (flags2 & kLargeCountsInode) != 0;
  Inode out;
  out.number = number;
  out.mode = f.u16(2);
  out.form = static_cast<ForkForm>(f.u8(5));
  out.uid = f.u32(8);
  out.gid = f.u32(12);
  out.links = version == 1 ? f.u16(6) : f.u32(16);
  out.accessed = time_of(f, 32, big_time);
  out.modified = time_of(f, 40, big_time);
  out.changed = time_of(f, 48, big_time);
  if (wide) out.created = time_of(f, 144, big_time);
  out.size = f.u64(56);
  out.blocks = f.u64(64);
  out.extent_count = large_counts ? f.u64(24) : f.u32(76);
  out.attribute_extent_count = large_counts ? f.u32(76) : f.u16(80);
  out.attribute_form = static_cast<ForkForm>(f.u8(83));
  out.real_time = (f.u16(90) & kRealTime) != 0;
  out.checksum_fits = !wide || fits_checksum(raw, di_crc_at);
  if (wide && f.u64(152) != number)
    throw Malformed(
        fmt::format("{} at offset {}: expected di_ino to be its number, found {}", what, at, f.u64(152)));
  std::size_t core = wide ? inode_core_size5 : inode_core_size, room = super_.inodesize - core;
  std::size_t split = std::size_t{f.u8(82)} * 8;  // di_forkoff
  if (split > room)
    throw Malformed(fmt::format("{} at offset {}: expected di_forkoff to be at most {}, found {}", what, at,
                                room / 8, split / 8));
  ByteView forks = f.bytes(core, room);
  ByteView first = split == 0 ? forks : forks.first(split);
  out.data.assign(first.begin(), first.end());
  if (split != 0) out.attributes.assign(forks.begin() + static_cast<std::ptrdiff_t>(split), forks.end());
  return out;
}

/// Records of 128 bits: whether it was never written, offset in the file (54 bits), block (52), count of
/// blocks (21).
void Volume::add_extents(ByteView records, std::size_t count, std::vector<Extent>& out) const {
  BigFields f(records, "XFS extents");
  for (std::size_t i = 0; i < count; ++i) {
    std::uint64_t high = f.u64(i * extent_size), low = f.u64(i * extent_size + 8);
    bool unwritten = high >> 63 != 0;
    std::uint64_t offset = (high >> 9) & ((std::uint64_t{1} << 54) - 1);
    std::uint64_t block = (high & 0x1FF) << 43 | low >> 21, blocks = low & 0x1FFFFF;
    if (unwritten || blocks == 0) continue;
    if (offset + blocks > static_cast<std::uint64_t>(INT64_MAX) / super_.blocksize)
      throw Malformed(fmt::format("XFS extents: block {} lies behind the end of any file", offset));
    std::uint64_t begin = place_of_block(block);
    place_of_block(block + blocks - 1);
    out.push_back({offset * super_.blocksize, begin, blocks * super_.blocksize});
  }
}

/// The root of a tree, in the inode: its level, how many keys, the keys, and behind the room for them the
/// blocks.
void Volume::walk_tree(ByteView root, std::vector<Extent>& out) const {
  BigFields f(root, "XFS extent tree");
  unsigned level = f.u16(0), count = f.u16(2);
  std::size_t most = (root.size() - 4) / 16;
  constexpr unsigned kHighest = 9;  // XFS_BM_MAXLEVELS is lower than this on every disk that can be
  if (level == 0 || level > kHighest || count > most)
    throw Malformed(
        fmt::format("XFS extent tree: expected a root of level 1 to {} with at most {} keys, found level {} "
                    "with {}",
                    kHighest, most, level, count));
  std::unordered_set<std::uint64_t> seen;
  for (unsigned i = 0; i < count; ++i)
    walk_node(f.u64(4 + most * 8 + i * std::size_t{8}), level - 1, seen, out);
}

void Volume::walk_node(std::uint64_t block, unsigned level, std::unordered_set<std::uint64_t>& seen,
                       std::vector<Extent>& out) const {
  if (!seen.insert(block).second)
    throw Malformed(fmt::format("XFS extent tree: block {} is in it twice", block));
  std::uint64_t at = place_of_block(block);
  Bytes raw = read_exactly(*meta_, at, super_.blocksize, "XFS extent tree");
  BigFields f(raw, "XFS extent tree", at);
  bool sums = super_.has_checksums();
  if (f.u32(0) != (sums ? kTreeMagic5 : kTreeMagic) || f.u16(4) != level)
    throw Malformed(
        fmt::format("XFS extent tree at offset {}: expected bb_magic \"{}\" and bb_level {}, found 0x{:08x} "
                    "and {}",
                    at, sums ? "BMA3" : "BMAP", level, f.u32(0), f.u16(4)));
  if (sums && !fits_checksum(raw, bb_crc_at))
    throw Malformed(fmt::format("XFS extent tree at offset {}: the block does not fit its checksum", at));
  std::size_t head = sums ? tree_header_size5 : tree_header_size, most = (super_.blocksize - head) / 16;
  std::size_t count = f.u16(6);
  if (count > most)
    throw Malformed(fmt::format(
        "XFS extent tree at offset {}: expected bb_numrecs to be at most {}, found {}", at, most, count));
  if (level == 0) return add_extents(f.bytes(head, count * extent_size), count, out);
  for (std::size_t i = 0; i < count; ++i) walk_node(f.u64(head + most * 8 + i * 8), level - 1, seen, out);
}

std::vector<Extent> Volume::extents(const Inode& inode, Fork which) const {
  std::vector<Extent> out;
  ByteView fork = inode.fork(which);
  switch (inode.form_of(which)) {
    case ForkForm::extents: {
      std::uint64_t count = which == Fork::data ? inode.extent_count : inode.attribute_extent_count;
      if (count > fork.size() / extent_size)
        throw Malformed(fmt::format("XFS inode {}: expected at most {} extents in it, found {}", inode.number,
                                    fork.size() / extent_size, count));
      add_extents(fork, static_cast<std::size_t>(count), out);
      break;
    }
    case ForkForm::btree:
      walk_tree(fork, out);
      break;
    default:
      throw Malformed(fmt::format("XFS inode {}: expected a fork of extents, found form {}", inode.number,
                                  static_cast<unsigned>(inode.form_of(which))));
  }
  return out;
}

SourcePtr Volume::data(const Inode& inode) const {
  if (inode.real_time) throw Unsupported("files on the real-time device of XFS");
  if (inode.form == ForkForm::local) {
    if (inode.size > inode.data.size())
      throw Malformed(fmt::format("XFS inode {}: {} bytes are kept in it, its size says {}", inode.number,
                                  inode.data.size(), inode.size));
    return make_memory_source(
        Bytes(inode.data.begin(), inode.data.begin() + static_cast<std::ptrdiff_t>(inode.size)));
  }
  std::vector<Extent> runs = extents(inode, Fork::data);
  // Blocks may be allocated behind the end.
  while (!runs.empty() && runs.back().logical >= inode.size) runs.pop_back();
  if (!runs.empty()) runs.back().length = std::min(runs.back().length, inode.size - runs.back().logical);
  return make_extent_source(image_, std::move(runs), inode.size);
}

/// Of version 5 each block begins with a header of its own.
std::string Volume::link_target(const Inode& inode) const {
  constexpr std::size_t kLongest = 1024, link_header_size = 56;
  if (inode.size > kLongest)
    throw Malformed(fmt::format("XFS inode {}: expected a link of at most {} bytes, found {}", inode.number,
                                kLongest, inode.size));
  if (inode.form == ForkForm::local) return std::string(as_text(read_up_to(*data(inode), 0, inode.size)));
  std::string target;
  for (const Extent& run : extents(inode, Fork::data)) {
    for (std::uint64_t at = 0; at < run.length && target.size() < inode.size; at += super_.blocksize) {
      Bytes block = read_exactly(*meta_, run.stored + at, super_.blocksize, "XFS link");
      ByteView text = block;
      if (super_.has_checksums()) {
        constexpr std::uint32_t kLink = 0x58534C4D;  // "XSLM"
        constexpr std::size_t sl_crc_at = 12;
        if (BigFields(block, "XFS link").u32(0) != kLink || !fits_checksum(block, sl_crc_at))
          throw Malformed(fmt::format(
              "XFS inode {}: expected its link at offset {} to begin with \"XSLM\" and to fit its "
              "checksum",
              inode.number, run.stored + at));
        text = text.subspan(link_header_size);
      }
      target += as_text(text.first(std::min<std::size_t>(text.size(), inode.size - target.size())));
    }
  }
  return target;
}

std::vector<std::pair<std::string, std::string>> Volume::attributes(const Inode& inode) const {
  if (inode.attributes.empty()) return {};
  if (inode.attribute_form == ForkForm::local) return short_attributes(inode.attributes);
  if (inode.attribute_form == ForkForm::extents && inode.attribute_extent_count == 0) return {};
  std::vector<Extent> runs = extents(inode, Fork::attributes);
  std::uint64_t size = runs.empty() ? 0 : runs.back().logical + runs.back().length;
  return block_attributes(*make_extent_source(image_, std::move(runs), size), super_);
}

/// The cycle in which a sector of the log was written last: its first number, or of a record's header the
/// second.
std::uint32_t Volume::log_cycle(std::uint64_t sector) const {
  Bytes raw = read_exactly(*meta_, place_of_block(super_.logstart) + sector * kSector, 8, "XFS log");
  BigFields f(raw, "XFS log");
  return f.u32(0) == kRecord ? f.u32(4) : f.u32(0);
}

bool Volume::log_is_clean() const {
  constexpr std::uint64_t kFarthest = 1024;  // sectors between a record's header and its end
  constexpr std::uint8_t kUnmount = 0x20;
  if (super_.logstart == 0 || super_.logblocks == 0)
    return true;  // on a device of its own, which nobody sees here
  std::uint64_t sectors = std::uint64_t{super_.logblocks} * super_.blocksize / kSector;
  // The log is a ring: the sectors in front of the newest one have the same cycle, those behind an older one.
  std::uint32_t first = log_cycle(0), last = log_cycle(sectors - 1);
  std::uint64_t head = sectors;
  if (first != last) {
    std::uint64_t low = 0, high = sectors - 1;  // cycle(low) is not the last one's, cycle(high) is
    while (high - low > 1) {
      std::uint64_t middle = low + (high - low) / 2;
      (log_cycle(middle) == last ? high : low) = middle;
    }
    head = high;
  }
  for (std::uint64_t back = 1; back <= std::min(head, kFarthest); ++back) {
    std::uint64_t at = place_of_block(super_.logstart) + (head - back) * kSector;
    Bytes raw = read_up_to(*meta_, at, 2 * kSector);
    if (raw.size() < 2 * kSector) return false;
    BigFields f(raw, "XFS log", at);
    if (f.u32(0) != kRecord) continue;
    constexpr std::size_t h_num_logops_at = 40, oh_flags_at = kSector + 9;
    return f.u32(h_num_logops_at) == 1 && (f.u8(oh_flags_at) & kUnmount) != 0;
  }
  return first == 0;  // nothing was ever written
}

}  // namespace operculum::xfs
