#include "format/filesystem/nilfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure_fields.h"
#include "base/sum_text.h"
#include "io/cached_source.h"

namespace operculum::nilfs {
namespace {

constexpr std::uint32_t kLogMagic = 0x1EAFFA11;
constexpr std::uint64_t kSuperAt = 1024;
constexpr std::size_t kSuperSize = 1024;
constexpr std::uint64_t kEndless = std::uint64_t{1} << 62;  ///< size of files that do not tell theirs
constexpr std::size_t kMostCached = 64;
constexpr std::uint16_t kHasSuperRoot = 4;

/// struct nilfs_segment_summary: the head of a log.
struct LogHead {
  std::uint32_t datasum = 0, sumsum = 0, magic = 0;
  std::uint16_t bytes = 0, flags = 0;
  std::uint64_t seq = 0, next = 0;
  std::uint32_t nblocks = 0, sumbytes = 0;
  static constexpr auto layout =
      little_endian(field("ss_datasum", &LogHead::datasum), field("ss_sumsum", &LogHead::sumsum),
                    field("ss_magic", &LogHead::magic), field("ss_bytes", &LogHead::bytes),
                    field("ss_flags", &LogHead::flags), field("ss_seq", &LogHead::seq), from_byte<32>(),
                    field("ss_next", &LogHead::next), field("ss_nblocks", &LogHead::nblocks), from_byte<48>(),
                    field("ss_sumbytes", &LogHead::sumbytes));
};

/// struct nilfs_btree_node: the head of a node, the root in an inode included; keys follow, then as many
/// places.
struct NodeHead {
  std::uint8_t flags = 0, level = 0;
  std::uint16_t nchildren = 0;
  static constexpr auto layout =
      little_endian(field("bn_flags", &NodeHead::flags), field("bn_level", &NodeHead::level),
                    field("bn_nchildren", &NodeHead::nchildren));
};
constexpr std::uint8_t kLargeMap = 1;                     // in a root's flags: a B-tree, no six pointers
constexpr std::size_t kRootKeysAt = 8, kNodeKeysAt = 16;  // a node has bytes of filling behind its head

/// struct nilfs_super_root, in front of its inodes.
struct SuperRoot {
  std::uint32_t sum = 0;
  std::uint16_t bytes = 0;
  static constexpr std::size_t inodes_at = 16;
  static constexpr auto layout =
      little_endian(field("sr_sum", &SuperRoot::sum), field("sr_bytes", &SuperRoot::bytes));
};

/// struct nilfs_dat_entry, as far as it is read: where a virtual block lies.
struct BlockEntry {
  std::uint64_t blocknr = 0;
  static constexpr auto layout = little_endian(field("de_blocknr", &BlockEntry::blocknr));
};

/// What a map says of a block of its file.
struct Mapped {
  std::uint64_t pointer = 0;  ///< 0: a hole
  std::uint64_t end = 0;      ///< index of the block from where on it says nothing
};

/// The map in an inode: six pointers, or the root of a B-tree.
class Bmap {
 public:
  using Resolve = std::function<std::uint64_t(std::uint64_t pointer)>;

  Bmap(const Inode& inode, std::uint64_t block, SourcePtr meta, Resolve resolve)
      : root_(inode.bmap), block_(block), meta_(std::move(meta)), resolve_(std::move(resolve)) {}

  Mapped find(std::uint64_t index) const {
    constexpr std::size_t kDirect = kBmapSize / 8 - 1;
    LittleFields root(root_, "NILFS2 map");
    auto head = structure_at<NodeHead>(root, 0);
    if ((head.flags & kLargeMap) == 0) {
      if (index >= kDirect) return {0, UINT64_MAX};
      return {root.u64(8 + static_cast<std::size_t>(index) * 8), index + 1};
    }
    constexpr std::size_t kRootChildren = 3;
    return in_node(root_, head.level, kRootKeysAt, kRootChildren, index, UINT64_MAX);
  }

  std::uint64_t place(std::uint64_t pointer) const {
    return checked_mul(resolve_(pointer), block_, "a NILFS2 block number");
  }

 private:
  Mapped in_node(ByteView node, unsigned level, std::size_t keys_at, std::size_t most, std::uint64_t index,
                 std::uint64_t end) const {
    LittleFields f(node, "NILFS2 B-tree node");
    auto head = structure_at<NodeHead>(f, 0);
    std::size_t count = head.nchildren;
    constexpr unsigned kDeepest = 14;
    if (count > most || level == 0 || level > kDeepest || head.level != level)
      throw Malformed(fmt::format(
          "NILFS2 B-tree node: expected level {} with at most {} children, found level {} with {}", level,
          most, head.level, count));
    std::size_t low = 0, high = count;  // of the first key behind `index`
    while (low < high) {
      std::size_t middle = (low + high) / 2;
      (f.u64(keys_at + middle * 8) <= index ? low : high) =
          f.u64(keys_at + middle * 8) <= index ? middle + 1 : middle;
    }
    if (low < count) end = std::min(end, f.u64(keys_at + low * 8));
    if (low == 0) return {0, end};
    std::uint64_t pointer = f.u64(keys_at + (most + low - 1) * 8);
    if (level > 1) {
      Bytes child = read_exactly(*meta_, place(pointer), block_, "NILFS2 B-tree node");
      return in_node(child, level - 1, kNodeKeysAt, (static_cast<std::size_t>(block_) - kNodeKeysAt) / 16,
                     index, end);
    }
    if (f.u64(keys_at + (low - 1) * 8) != index) return {0, end};
    return {pointer, index + 1};
  }

  std::array<Byte, kBmapSize> root_;
  std::uint64_t block_;
  SourcePtr meta_;
  Resolve resolve_;
};

class BmapSource final : public MappedSource {
 public:
  BmapSource(SourcePtr image, std::uint64_t size, std::uint64_t block, Bmap map)
      : MappedSource(std::move(image), size), block_(block), map_(std::move(map)) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t index = offset / block_, within = offset % block_;
    Mapped found = map_.find(index);
    if (found.pointer == 0) {
      std::uint64_t left = size() - offset, blocks = std::max(found.end, index + 1) - index;
      return {MappedRun::From::zeros, blocks > left / block_ ? left : blocks * block_ - within};
    }
    std::uint64_t at = map_.place(found.pointer), count = 1;
    constexpr std::uint64_t kLongest = 256;  // blocks that are looked up at once
    while (count < kLongest && (index + count) * block_ < size()) {
      Mapped next = map_.find(index + count);
      if (next.pointer == 0 || map_.place(next.pointer) != at + count * block_) break;
      ++count;
    }
    return {MappedRun::From::stored, count * block_ - within, at + within};
  }

 private:
  std::uint64_t block_;
  Bmap map_;
};

/// Where the entries of a file with groups lie (fs/nilfs2/alloc.h): blocks of group descriptors, and behind
/// each, for every group, a bitmap and the entries.
std::uint64_t place_of_entry(std::uint64_t number, std::uint64_t entry_size, std::uint64_t block) {
  std::uint64_t in_group = block * 8, in_block = block / entry_size;
  std::uint64_t group_blocks = (in_group + in_block - 1) / in_block + 1, groups = block / 4;
  std::uint64_t group = number / in_group, within = number % in_group;
  std::uint64_t index = group / groups * (groups * group_blocks + 1) + 1 + group % groups * group_blocks + 1 +
                        within / in_block;
  return index * block + within % in_block * entry_size;
}

}  // namespace

Superblock read_superblock(ByteView raw) {
  if (raw.size() < kSuperSize) throw CutShort("NILFS2 superblock: the image is cut short");
  Superblock super = read_structure<Superblock>(raw.data());
  auto refuse = [&](auto member, std::string_view expected, std::uint64_t found) {
    refuse_field("NILFS2 superblock", kSuperAt, member, expected, fmt::format("{}", found));
  };
  if (super.magic != kMagic)
    refuse_field("NILFS2 superblock", kSuperAt, &Superblock::magic, fmt::format("{:#x}", kMagic),
                 fmt::format("{:#x}", super.magic));
  constexpr std::uint16_t kLeast = 248;  // without what later versions have
  if (super.bytes < kLeast || super.bytes > kSuperSize)
    refuse(&Superblock::bytes, "248 to 1024", super.bytes);
  Bytes summed(raw.begin(), raw.begin() + super.bytes);
  constexpr std::size_t kSumAt = 16;
  std::fill_n(summed.begin() + kSumAt, 4, Byte{0});
  if (std::uint32_t own = crc32_plain(super.crc_seed, summed); !sum_fits(own, super.sum))
    refuse_field("NILFS2 superblock", kSuperAt, &Superblock::sum, fmt::format("{:#010x}", own),
                 fmt::format("{:#010x}", super.sum));
  if (super.log_block_size > 6) refuse(&Superblock::log_block_size, "at most 6", super.log_block_size);
  if (super.inode_size < size_on_disk<Inode> || super.inode_size > super.block())
    refuse(&Superblock::inode_size, "112 or more", super.inode_size);
  if (super.dat_entry_size < 8 || super.dat_entry_size > super.block())
    refuse(&Superblock::dat_entry_size, "8 or more", super.dat_entry_size);
  if (super.checkpoint_size < Checkpoint::inode_at + size_on_disk<Inode> ||
      super.checkpoint_size > super.block())
    refuse(&Superblock::checkpoint_size, "176 or more", super.checkpoint_size);
  if (super.blocks_per_segment < 16)
    refuse(&Superblock::blocks_per_segment, "16 or more", super.blocks_per_segment);
  return super;
}

Volume::Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report)
    : image_(std::move(image)), meta_(make_cached(image_)) {
  auto copy_at = [&](std::uint64_t at, std::string& wrong) -> std::optional<Superblock> {
    try {
      return read_superblock(read_up_to(*image_, at, kSuperSize));
    } catch (const Malformed& error) {
      wrong = error.what();
      return std::nullopt;
    }
  };
  std::string wrong, also_wrong;
  std::optional<Superblock> first = copy_at(kSuperAt, wrong);
  std::uint64_t second_at = first ? first->dev_size : image_->size();
  constexpr std::uint64_t kStep = 4096;
  std::optional<Superblock> second =
      second_at >= 2 * kStep ? copy_at((second_at / kStep - 1) * kStep, also_wrong) : std::nullopt;
  if (!first && !second) throw Malformed(wrong);
  if (!first) {
    report(Finding::Level::fault,
           fmt::format("the superblock is damaged ({}); the one at the end was used", wrong));
    first = second;
  }
  // the two are written in turn
  bool later = second && second->uuid == first->uuid && second->last_cno > first->last_cno;
  super_ = later ? *second : *first;
  if (super_.feature_incompat != 0)
    throw Unsupported(fmt::format("NILFS2 feature bits {:#x}", super_.feature_incompat));
  find_super_root(report);
}

/// Logs are followed from the last one that the superblock knows of: those behind it may be newer.
void Volume::find_super_root(const std::function<void(Finding::Level, std::string)>& report) {
  const std::uint64_t block = super_.block(), all = image_->size() / block;
  std::uint64_t at = super_.last_pseg, seq = super_.last_seq, root = 0, next_segment = 0;
  std::string wrong = "its block is not there";
  auto end_of_segment = [&](std::uint64_t log) {
    return (log / super_.blocks_per_segment + 1) * super_.blocks_per_segment;
  };
  std::uint64_t steps = 0, most_steps = all + 1;  // every step goes on by a block or more
  while (at < all && ++steps < most_steps) {
    Bytes raw = read_up_to(*meta_, at * block, block);
    if (raw.size() < block) break;
    LogHead head = read_structure<LogHead>(raw.data());
    if (head.magic != kLogMagic || head.seq != seq || head.nblocks == 0 ||
        head.sumbytes < size_on_disk<LogHead> || head.sumbytes > head.nblocks * block ||
        head.nblocks > end_of_segment(at) - at) {
      wrong = fmt::format("no log begins at block {}", at);
      break;
    }
    Bytes log = read_up_to(*image_, at * block, head.nblocks * block);
    if (log.size() < head.nblocks * block) {
      wrong = fmt::format("the log at block {} is cut short", at);
      break;
    }
    std::uint32_t own = crc32_plain(super_.crc_seed, ByteView(log).subspan(4));
    if (!sum_fits(own, head.datasum)) {
      wrong =
          fmt::format("the log at block {} does not fit its checksum{}", at, told_sums(head.datasum, own));
      break;
    }
    if ((head.flags & kHasSuperRoot) != 0) root = at + head.nblocks - 1;
    next_segment = head.next;
    at += head.nblocks;
    if (at + 2 > end_of_segment(at - 1)) {
      at = next_segment;
      ++seq;
    }
  }
  if (root == 0) throw Malformed(fmt::format("NILFS2: the newest super root cannot be read: {}", wrong));
  Bytes raw = read_exactly(*image_, root * block, block, "NILFS2 super root");
  LittleFields f(raw, "NILFS2 super root", root * block);
  auto head = structure_at<SuperRoot>(f, 0);
  std::size_t bytes = head.bytes, step = super_.inode_size;
  constexpr std::size_t kLeast = SuperRoot::inodes_at;
  if (bytes < kLeast + 3 * step || bytes > raw.size())
    throw Malformed(fmt::format("NILFS2 super root at block {}: expected a size of {} to {} bytes, found {}",
                                root, kLeast + 3 * step, raw.size(), bytes));
  std::uint32_t own = crc32_plain(super_.crc_seed, ByteView(raw).subspan(4, bytes - 4));
  if (!sum_fits(own, head.sum))
    throw Malformed(fmt::format("NILFS2 super root at block {} does not fit its checksum{}", root,
                                told_sums(head.sum, own)));
  auto inode_at = [&](std::size_t index) {
    return structure_at<Inode>(f, SuperRoot::inodes_at + index * step);
  };
  std::uint64_t limit = all;
  dat_ = make_cached(std::make_shared<BmapSource>(
      image_, kEndless, block, Bmap(inode_at(0), block, meta_, [limit](std::uint64_t pointer) {
        if (pointer >= limit)
          throw Malformed(fmt::format("NILFS2: block {} lies outside of the image's {}", pointer, limit));
        return pointer;
      })));
  checkpoints_ = make_cached(file(inode_at(1), kEndless));
  newest_ = super_.last_cno;
  auto is_there = [&](std::uint64_t number) {
    Checkpoint found = read_structure<Checkpoint>(checkpoint_at(number).data());
    return found.is_there() && found.cno == number;
  };
  while (is_there(newest_ + 1)) ++newest_;  // the last log may be newer than the superblock
  if ((super_.state & 1) == 0)
    report(Finding::Level::warning, "it was not unmounted: what was not yet in a checkpoint is missing");
}

SourcePtr Volume::file(const Inode& inode, std::uint64_t size) const {
  std::uint64_t limit = image_->size() / super_.block();
  auto resolve = [dat = dat_, limit, block = super_.block(),
                  entry = super_.dat_entry_size](std::uint64_t pointer) {
    if (pointer > kEndless / 64)
      throw Malformed(fmt::format("NILFS2: virtual block {} is not possible", pointer));
    Bytes raw = read_exactly(*dat, place_of_entry(pointer, entry, block), 8, "NILFS2 DAT entry");
    std::uint64_t real = read_structure<BlockEntry>(raw.data()).blocknr;
    if (real == 0 || real >= limit)
      throw Malformed(
          fmt::format("NILFS2: virtual block {} leads to block {}, the image has {}", pointer, real, limit));
    return real;
  };
  return std::make_shared<BmapSource>(image_, size, super_.block(),
                                      Bmap(inode, super_.block(), meta_, resolve));
}

Bytes Volume::checkpoint_at(std::uint64_t number) const {
  std::uint64_t in_block = super_.block() / super_.checkpoint_size;
  // the file's own head takes the place of the first one
  return read_exactly(*checkpoints_,
                      number / in_block * super_.block() + number % in_block * super_.checkpoint_size,
                      super_.checkpoint_size, "NILFS2 checkpoint");
}

void Volume::checkpoints(const std::function<void(const Checkpoint&)>& take) const {
  std::uint64_t in_block = super_.block() / super_.checkpoint_size;
  std::uint64_t left = image_->size() / super_.checkpoint_size;  // more than the image holds are none
  for (std::uint64_t number = 1; number <= newest_;) {
    std::uint64_t at = number / in_block * super_.block();
    if (std::uint64_t hole = checkpoints_->hole_at(at); hole >= super_.block()) {
      number = (at + hole / super_.block() * super_.block()) / super_.block() * in_block;
      continue;
    }
    if (left-- == 0) throw Malformed("NILFS2: its list of checkpoints is longer than the image");
    Checkpoint one = read_structure<Checkpoint>(checkpoint_at(number).data());
    if (one.is_there() && one.cno == number) take(one);
    ++number;
  }
}

SourcePtr Volume::inodes_of(std::uint64_t checkpoint) const {
  std::lock_guard lock(mutex_);
  if (auto known = inode_files_.find(checkpoint); known != inode_files_.end()) return known->second;
  Bytes raw = checkpoint_at(checkpoint);
  Checkpoint head = read_structure<Checkpoint>(raw.data());
  if (!head.is_there() || head.cno != checkpoint)
    throw Malformed(fmt::format("NILFS2: there is no checkpoint {}", checkpoint));
  SourcePtr out =
      make_cached(file(read_structure<Inode>(raw.data() + Checkpoint::inode_at), kEndless), 4096, 1 << 20);
  if (inode_files_.size() >= kMostCached) inode_files_.clear();
  inode_files_.emplace(checkpoint, out);
  return out;
}

Inode Volume::inode(std::uint64_t number, std::uint64_t checkpoint) const {
  constexpr std::uint64_t kMost = std::uint64_t{1} << 40;
  if (number == 0 || number > kMost) throw Malformed(fmt::format("NILFS2: inode {} is not possible", number));
  Bytes raw = read_exactly(*inodes_of(checkpoint), place_of_entry(number, super_.inode_size, super_.block()),
                           size_on_disk<Inode>, "NILFS2 inode");
  return read_structure<Inode>(raw.data());
}

SourcePtr Volume::data(const Inode& inode) const {
  return file(inode, inode.size);
}

}  // namespace operculum::nilfs
