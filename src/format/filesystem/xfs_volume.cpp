#include "format/filesystem/xfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/structure_fields.h"
#include "base/sum_text.h"
#include "format/filesystem/xfs_records.h"
#include "io/cached_source.h"

namespace operculum::xfs {
namespace {

constexpr std::uint32_t kMagic = 0x58465342;  // "XFSB"
constexpr std::size_t bb_crc_at = 64;
constexpr std::size_t extent_size = size_on_disk<ExtentRecord>;
constexpr std::uint64_t kSector = 512;  // of the log

// sb_versionnum and sb_features2 of version 4, sb_features_incompat of version 5.
constexpr std::uint16_t kDirectory2 = 0x2000, kMoreBits = 0x8000;
constexpr std::uint32_t kFileTypes4 = 0x200;
enum Incompat : std::uint32_t {
  file_types_feature = 1,
  sparse_inodes_feature = 2,
  meta_uuid_feature = 4,
  big_time_feature = 8,
  needs_repair_feature = 0x10,
  large_counts_feature = 0x20,
  exchange_feature = 0x40,
  parents_feature = 0x80,
  meta_folder_feature = 0x100,
};
constexpr std::uint32_t kKnown = file_types_feature | sparse_inodes_feature | meta_uuid_feature |
                                 big_time_feature | needs_repair_feature | large_counts_feature |
                                 exchange_feature | parents_feature | meta_folder_feature;

bool is_power_of_two(std::uint64_t value) {
  return value != 0 && (value & (value - 1)) == 0;
}

bool is_two_to(std::uint64_t value, unsigned exponent) {
  return exponent < 64 && value == std::uint64_t{1} << exponent;
}

/// Seconds and nanoseconds; or, since 2020, nanoseconds from the smallest 32-bit time on.
Timestamp time_of(const TimeRecord& time, bool big) {
  constexpr std::uint64_t kNano = 1'000'000'000, kEpoch = std::uint64_t{1} << 31;
  if (!big)
    return from_unix(static_cast<std::int32_t>(time.seconds),
                     std::min<std::uint32_t>(time.nanoseconds, kNano - 1));
  return from_unix(static_cast<std::int64_t>(time.big() / kNano) - static_cast<std::int64_t>(kEpoch),
                   static_cast<std::uint32_t>(time.big() % kNano));
}

}  // namespace

namespace {
constexpr std::size_t kChecksumSize = 4;

/// The one that bytes should have, its own place counted as zeros.
std::uint32_t checksum_of(ByteView bytes, std::size_t at) {
  constexpr Byte kZeros[kChecksumSize] = {};
  return ~crc32c(crc32c(crc32c(~0U, bytes.first(at)), kZeros), bytes.subspan(at + kChecksumSize));
}
}  // namespace

bool fits_checksum(ByteView bytes, std::size_t at) {
  return bytes.size() >= at + kChecksumSize &&
         checksum_of(bytes, at) == load_little<std::uint32_t>(bytes.data() + at);
}

std::string told_checksum(ByteView bytes, std::size_t at) {
  return told_sums(load_little<std::uint32_t>(bytes.data() + at), checksum_of(bytes, at));
}

bool Superblock::needs_repair() const {
  return has_checksums() && (features_incompat & needs_repair_feature) != 0;
}

bool Superblock::has_file_types() const {
  if (has_checksums()) return (features_incompat & file_types_feature) != 0;
  return (versionnum & kMoreBits) != 0 && (features2 & kFileTypes4) != 0;
}

Superblock read_superblock(ByteView bytes) {
  constexpr std::string_view kWhat = "XFS superblock";
  if (bytes.size() < size_on_disk<Superblock>) throw CutShort("XFS superblock: it is cut short");
  auto s = read_structure<Superblock>(bytes.data());
  auto refuse = [&](auto member, std::string_view expected) {
    refuse_field(kWhat, 0, member, expected, fmt::format("{}", s.*member));
  };
  if (s.magic != kMagic)
    refuse_field(kWhat, 0, &Superblock::magic, "\"XFSB\"", fmt::format("0x{:08x}", s.magic));
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
  constexpr std::size_t kSumAt = place_of(&Superblock::crc).at;
  if (version < 5) return s;
  if (bytes.size() < s.sectsize) throw CutShort("XFS superblock: it is cut short");
  if (ByteView summed = bytes.first(s.sectsize); !fits_checksum(summed, kSumAt))
    throw Malformed("XFS superblock: it does not fit sb_crc" + told_checksum(summed, kSumAt));
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
  auto core = structure_at<InodeRecord>(f, 0);
  if (core.magic != kInodeMagic)
    refuse_field(what, at, &InodeRecord::magic, "\"IN\"", fmt::format("0x{:04x}", core.magic));
  WideInodeRecord wide;
  if (core.is_wide()) wide = structure_at<WideInodeRecord>(f, 0);
  bool big = (wide.flags2 & big_time) != 0, large = (wide.flags2 & large_counts) != 0;
  Inode out;
  out.number = number;
  out.mode = core.mode;
  out.form = static_cast<ForkForm>(core.format);
  out.uid = core.uid;
  out.gid = core.gid;
  out.links = core.version == 1 ? core.onlink : core.nlink;
  out.accessed = time_of(core.accessed(), big);
  out.modified = time_of(core.modified(), big);
  out.changed = time_of(core.changed(), big);
  if (core.is_wide()) out.created = time_of(wide.created(), big);
  out.size = core.size;
  out.blocks = core.nblocks;
  out.extent_count = large ? core.big_nextents : core.nextents;
  out.attribute_extent_count = large ? core.nextents : core.anextents;
  out.attribute_form = static_cast<ForkForm>(core.aformat);
  out.real_time = (core.flags & on_real_time_device) != 0;
  constexpr std::size_t kInodeSumAt = place_of(&WideInodeRecord::crc).at;
  if (core.is_wide() && !fits_checksum(raw, kInodeSumAt)) out.wrong_sums = told_checksum(raw, kInodeSumAt);
  if (core.is_wide() && wide.ino != number)
    refuse_field(what, at, &WideInodeRecord::ino, "its number", fmt::format("{}", wide.ino));
  std::size_t core_size = core.is_wide() ? inode_core_size5 : inode_core_size,
              room = super_.inodesize - core_size;
  std::size_t split = std::size_t{core.forkoff} * 8;
  if (split > room)
    refuse_field(what, at, &InodeRecord::forkoff, fmt::format("at most {}", room / 8),
                 fmt::format("{}", core.forkoff));
  ByteView forks = f.bytes(core_size, room);
  ByteView first = split == 0 ? forks : forks.first(split);
  out.data.assign(first.begin(), first.end());
  if (split != 0) out.attributes.assign(forks.begin() + static_cast<std::ptrdiff_t>(split), forks.end());
  return out;
}

void Volume::add_extents(ByteView records, std::size_t count, std::vector<Extent>& out) const {
  BigFields f(records, "XFS extents");
  for (std::size_t i = 0; i < count; ++i) {
    auto record = structure_at<ExtentRecord>(f, i * extent_size);
    std::uint64_t offset = record.startoff(), block = record.startblock(), blocks = record.blockcount();
    if (record.unwritten() || blocks == 0) continue;
    if (offset + blocks > static_cast<std::uint64_t>(INT64_MAX) / super_.blocksize)
      throw Malformed(fmt::format("XFS extents: block {} lies behind the end of any file", offset));
    std::uint64_t begin = place_of_block(block);
    place_of_block(block + blocks - 1);
    out.push_back({offset * super_.blocksize, begin, blocks * super_.blocksize});
  }
}

void Volume::walk_tree(ByteView root, std::vector<Extent>& out) const {
  BigFields f(root, "XFS extent tree");
  auto head = structure_at<TreeRootRecord>(f, 0);
  unsigned level = head.level, count = head.numrecs;
  constexpr std::size_t head_size = size_on_disk<TreeRootRecord>;
  std::size_t most = (root.size() - head_size) / (tree_key_size + tree_pointer_size);
  constexpr unsigned kHighest = 9;  // XFS_BM_MAXLEVELS is lower than this on every disk that can be
  if (level == 0 || level > kHighest || count > most)
    throw Malformed(
        fmt::format("XFS extent tree: expected a root of level 1 to {} with at most {} keys, found level {} "
                    "with {}",
                    kHighest, most, level, count));
  std::unordered_set<std::uint64_t> seen;
  for (unsigned i = 0; i < count; ++i)
    walk_node(f.u64(head_size + most * tree_key_size + i * tree_pointer_size), level - 1, seen, out);
}

void Volume::walk_node(std::uint64_t block, unsigned level, std::unordered_set<std::uint64_t>& seen,
                       std::vector<Extent>& out) const {
  if (!seen.insert(block).second)
    throw Malformed(fmt::format("XFS extent tree: block {} is in it twice", block));
  std::uint64_t at = place_of_block(block);
  Bytes raw = read_exactly(*meta_, at, super_.blocksize, "XFS extent tree");
  BigFields f(raw, "XFS extent tree", at);
  bool sums = super_.has_checksums();
  auto block_head = structure_at<TreeBlockRecord>(f, 0);
  if (block_head.magic != (sums ? kTreeMagic5 : kTreeMagic) || block_head.level != level)
    throw Malformed(
        fmt::format("XFS extent tree at offset {}: expected bb_magic \"{}\" and bb_level {}, found 0x{:08x} "
                    "and {}",
                    at, sums ? "BMA3" : "BMAP", level, block_head.magic, block_head.level));
  if (sums && !fits_checksum(raw, bb_crc_at))
    throw Malformed(fmt::format("XFS extent tree at offset {}: the block does not fit its checksum{}", at,
                                told_checksum(raw, bb_crc_at)));
  std::size_t head = sums ? tree_header_size5 : tree_header_size,
              most = (super_.blocksize - head) / (tree_key_size + tree_pointer_size);
  std::size_t count = block_head.numrecs;
  if (count > most)
    throw Malformed(fmt::format(
        "XFS extent tree at offset {}: expected bb_numrecs to be at most {}, found {}", at, most, count));
  if (level == 0) return add_extents(f.bytes(head, count * extent_size), count, out);
  for (std::size_t i = 0; i < count; ++i)
    walk_node(f.u64(head + most * tree_key_size + i * tree_pointer_size), level - 1, seen, out);
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
  constexpr std::size_t kLongest = 1024;
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
        if (read_field(&LinkRecord::magic, block.data()) != kLinkMagic ||
            !fits_checksum(block, place_of(&LinkRecord::crc).at))
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

ExtendedAttributes Volume::attributes(const Inode& inode) const {
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
  std::uint64_t at = place_of_block(super_.logstart) + sector * kSector;
  auto head = read_structure<LogRecord>(read_exactly(*meta_, at, size_on_disk<LogRecord>, "XFS log").data());
  return head.magicno == kLogMagic ? head.cycle : head.magicno;
}

bool Volume::log_is_clean() const {
  constexpr std::uint64_t kFarthest = 1024;  // sectors between a record's header and its end
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
    auto record = read_structure<LogRecord>(raw.data());
    if (record.magicno != kLogMagic) continue;
    auto first_operation = read_structure<LogOperation>(raw.data() + kSector);
    return record.num_logops == 1 && (first_operation.flags & unmount_transaction) != 0;
  }
  return first == 0;  // nothing was ever written
}

}  // namespace operculum::xfs
