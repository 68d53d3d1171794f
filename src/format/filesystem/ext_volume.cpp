#include "format/filesystem/ext_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/fields.h"
#include "base/numbers.h"
#include "base/text.h"
#include "format/filesystem/ext_records.h"
#include "io/cached_source.h"

namespace operculum::ext {
namespace {

constexpr std::size_t kInodeFixed = 128;
constexpr std::uint16_t kMagic = 0xEF53;
constexpr std::uint32_t kAttributeMagic = 0xEA020000;
constexpr std::uint32_t kKnownIncompat = kFileType | kRecover | kJournalDevice | kMetaGroups | kExtents |
                                         k64Bit | kMultiMount | kFlexGroups | kAttributeInodes |
                                         kChecksumSeed | kLargeFolders | kInlineData | kEncrypt | kCaseFold;
constexpr std::uint64_t kMaxGroups = 1 << 22;
constexpr std::uint64_t kMaxAttribute = 64 << 10;

std::uint32_t with_number(std::uint32_t seed, std::uint64_t number, std::size_t bytes) {
  Byte raw[8];
  store_number(raw, bytes, number);
  return crc32c(seed, {raw, bytes});
}

/// CRC-32C of `bytes` with `count` bytes at `hole` taken as zeros.
std::uint32_t sum_without(std::uint32_t seed, ByteView bytes, std::size_t hole, std::size_t count) {
  static constexpr Byte kZeros[4] = {};
  std::uint32_t sum = crc32c(seed, bytes.first(hole));
  sum = crc32c(sum, {kZeros, count});
  return crc32c(sum, bytes.subspan(hole + count));
}

/// CRC-16 (polynomial 0x8005, reflected), as in group descriptors without metadata checksums.
std::uint16_t crc16(std::uint16_t sum, ByteView bytes) {
  for (Byte b : bytes) {
    sum ^= b;
    for (int i = 0; i < 8; ++i)
      sum = static_cast<std::uint16_t>((sum & 1) != 0 ? (sum >> 1) ^ 0xA001 : sum >> 1);
  }
  return sum;
}

/// Whether an inode's bytes have room for the upper half of its checksum.
bool has_high_sum(ByteView raw) {
  if (raw.size() <= kInodeFixed) return false;
  auto extra = load_little<std::uint16_t>(raw.data() + kInodeFixed);
  return extra >= 4 && extra <= raw.size() - kInodeFixed && extra % 4 == 0;
}

std::string text_of(std::string_view raw) {
  return std::string(until_zero(raw));
}

/// Seconds with the two bits and 30 bits of nanoseconds that larger inodes add.
Timestamp time_of(std::uint32_t seconds, std::uint32_t extra) {
  auto full = static_cast<std::int64_t>(static_cast<std::int32_t>(seconds)) + (std::int64_t{extra & 3} << 32);
  std::uint32_t nanoseconds = extra >> 2;
  return from_unix(full, nanoseconds < 1'000'000'000 ? nanoseconds : 0);
}

bool is_power(std::uint64_t value, std::uint64_t base) {
  while (value % base == 0) value /= base;
  return value == 1;
}

/// Groups that hold a copy of the superblock when not all do (sparse_super).
bool has_super_copy(const Superblock& super, std::uint64_t group) {
  constexpr std::uint32_t kSparseSuper = 1, kSparseSuper2 = 0x200;
  if (group == 0) return true;
  if ((super.compat & kSparseSuper2) != 0)
    return false;  // only where two fields say; meta groups do not meet it
  if ((super.ro_compat & kSparseSuper) == 0) return true;
  return group == 1 || is_power(group, 3) || is_power(group, 5) || is_power(group, 7);
}

std::string_view attribute_prefix(std::uint8_t index) {
  switch (index) {
    case 1:
      return "user.";
    case 2:
      return "system.posix_acl_access";
    case 3:
      return "system.posix_acl_default";
    case 4:
      return "trusted.";
    case 6:
      return "security.";
    case 7:
      return "system.";
    case 8:
      return "system.richacl";
    default:
      return "";
  }
}

}  // namespace

Superblock read_superblock(ByteView bytes) {
  LittleFields f(bytes, "ext superblock", kSuperAt);
  if (f.u16(56) != kMagic) throw Malformed("ext superblock: the magic is missing");
  Superblock s;
  s.revision = f.u32(76);
  s.compat = f.u32(92);
  s.incompat = f.u32(96);
  s.ro_compat = f.u32(100);
  if (s.revision == 0) s.compat = s.incompat = s.ro_compat = 0;
  s.inodes = f.u32(0);
  s.blocks = f.u32(4);
  s.free_blocks = f.u32(12);
  if (s.has(k64Bit)) {
    s.blocks |= std::uint64_t{f.u32(336)} << 32;
    s.free_blocks |= std::uint64_t{f.u32(344)} << 32;
  }
  s.free_inodes = f.u32(16);
  s.first_data_block = f.u32(20);
  if (f.u32(24) > 6)
    throw Malformed(fmt::format("ext superblock: a block size of 2^{} KiB is not possible", f.u32(24)));
  s.block_size = 1024U << f.u32(24);
  if (s.has(kBigAlloc)) {
    if (f.u32(28) < f.u32(24) || f.u32(28) > 20)
      throw Malformed("ext superblock: the cluster size makes no sense");
    s.cluster_blocks = 1U << (f.u32(28) - f.u32(24));
  }
  s.blocks_per_group = f.u32(32);
  s.inodes_per_group = f.u32(40);
  s.state = f.u16(58);
  s.written = from_unix(f.u32(48));
  if (s.revision > 0) {
    s.inode_size = f.u16(88);
    s.made = f.u32(264) != 0 ? from_unix(f.u32(264)) : Timestamp{};
    s.uuid.assign(f.bytes(104, 16).begin(), f.bytes(104, 16).end());
    s.label = text_of(f.text(120, 16));
    s.last_mounted = text_of(f.text(136, 64));
  }
  if (s.has(k64Bit)) s.descriptor_size = std::max<std::uint32_t>(32, f.u16(254));
  s.first_meta_group = f.u32(260);
  s.checksum_seed = f.u32(624);
  if (s.blocks_per_group == 0 || s.inodes_per_group == 0 || s.blocks == 0 || s.inode_size < kInodeFixed ||
      s.inode_size > s.block_size || (s.inode_size & (s.inode_size - 1)) != 0 ||
      s.descriptor_size > s.block_size || s.first_data_block >= s.blocks ||
      s.blocks_per_group > s.block_size * 8 * s.cluster_blocks) {
    throw Malformed("ext superblock: its numbers contradict each other");
  }
  return s;
}

Volume::Volume(SourcePtr image, std::function<void(Finding::Level, std::string)> report)
    : image_(std::move(image)), meta_(make_cached(image_)) {
  open(report);
  if (std::uint32_t unknown = super_.incompat & ~kKnownIncompat; unknown != 0)
    throw Unsupported(fmt::format("ext feature bits {:#x}{}", unknown,
                                  (unknown & kCompression) != 0 ? " (compression)" : ""));
  if (super_.has(kJournalDevice)) throw Unsupported("an external journal holds no files");
  seed_ = super_.has(kChecksumSeed) ? super_.checksum_seed : crc32c(~0U, super_.uuid);
  read_groups(report);
}

void Volume::open(std::function<void(Finding::Level, std::string)>& report) {
  Bytes raw = read_up_to(*image_, kSuperAt, kSuperSize);
  auto sum_fits = [](const Superblock& super, ByteView bytes) {
    return !super.has(kMetadataChecksum) || crc32c(~0U, bytes.first(kSuperSize - 4)) ==
                                                LittleFields(bytes, "ext superblock").u32(kSuperSize - 4);
  };
  std::string wrong;
  try {
    if (raw.size() < kSuperSize)
      throw CutShort(
          fmt::format("ext superblock at offset {}: expected {} bytes, found {}; the image is cut short",
                      kSuperAt, kSuperSize, raw.size()));
    super_ = read_superblock(raw);
    if (sum_fits(super_, raw)) return;
    wrong = "its checksum differs";
  } catch (const Malformed& error) {
    wrong = error.what();
  }
  // Where the first backup lies depends on the block size, which only it tells.
  for (std::uint64_t block_size : {4096, 1024, 2048, 65536}) {
    std::uint64_t at = (block_size * 8 + (block_size == 1024 ? 1 : 0)) * block_size;
    Bytes copy = read_up_to(*image_, at, kSuperSize);
    try {
      if (copy.size() < kSuperSize) continue;
      Superblock super = read_superblock(copy);
      if (super.block_size != block_size || !sum_fits(super, copy)) continue;
      super_ = std::move(super);
      report(Finding::Level::fault,
             fmt::format("the superblock is damaged ({}); its backup at offset {} was used", wrong, at));
      return;
    } catch (const Malformed&) {
    }
  }
  if (super_.blocks == 0) throw Malformed(wrong + "; there is no usable backup either");
  report(Finding::Level::warning,
         fmt::format("the superblock may be damaged ({}), and there is no usable backup", wrong));
}

std::uint64_t Volume::descriptor_place(std::uint64_t group) const {
  std::uint64_t per_block = super_.block_size / super_.descriptor_size;
  std::uint64_t index = group / per_block, within = (group % per_block) * super_.descriptor_size;
  if (!super_.has(kMetaGroups) || index < super_.first_meta_group)
    return (kSuperAt / super_.block_size + 1 + index) * super_.block_size + within;
  std::uint64_t first = index * per_block;
  std::uint64_t block = super_.first_data_block + first * super_.blocks_per_group;
  std::uint64_t copies = has_super_copy(super_, first) ? 1 : 0;
  if (first == 0 && super_.block_size == kSuperAt && super_.first_data_block == 0)
    ++copies;  // behind the boot block
  return (block + copies) * super_.block_size + within;
}

void Volume::read_groups(const std::function<void(Finding::Level, std::string)>& report) {
  std::uint64_t groups =
      (super_.blocks - super_.first_data_block + super_.blocks_per_group - 1) / super_.blocks_per_group;
  groups = std::min<std::uint64_t>(
      groups, (std::uint64_t{super_.inodes} + super_.inodes_per_group - 1) / super_.inodes_per_group);
  if (groups > kMaxGroups)
    throw Malformed(fmt::format("ext superblock: {} groups are more than any disk has", groups));
  std::uint64_t damaged = 0;
  for (std::uint64_t group = 0; group < groups; ++group) {
    Bytes raw = read_up_to(*meta_, descriptor_place(group), super_.descriptor_size);
    if (raw.size() < super_.descriptor_size) {
      report(Finding::Level::fault,
             fmt::format("the group descriptors end after {} of {}; the image is cut short", group, groups));
      break;
    }
    LittleFields f(raw, "ext group descriptor", descriptor_place(group));
    std::uint64_t table = f.u32(8);
    if (super_.descriptor_size >= 64) table |= std::uint64_t{f.u32(40)} << 32;
    std::uint16_t sum = f.u16(30);
    damaged += sum != descriptor_sum(group, raw).value_or(sum) ? 1 : 0;
    inode_tables_.push_back(table);
  }
  if (damaged > 0)
    report(Finding::Level::fault,
           fmt::format("{} of {} group descriptors do not fit their checksum", damaged, groups));
}

std::optional<std::uint16_t> Volume::descriptor_sum(std::uint64_t group, ByteView raw) const {
  if (super_.has(kMetadataChecksum))
    return static_cast<std::uint16_t>(sum_without(with_number(seed_, group, 4), raw, 30, 2));
  if (!super_.has(kGroupChecksum)) return std::nullopt;
  Byte number[4] = {static_cast<Byte>(group), static_cast<Byte>(group >> 8), static_cast<Byte>(group >> 16),
                    static_cast<Byte>(group >> 24)};
  std::uint16_t sum = crc16(crc16(crc16(0xFFFF, super_.uuid), number), raw.first(30));
  if (raw.size() > 32) sum = crc16(sum, raw.subspan(32));
  return sum;
}

Bytes Volume::block(std::uint64_t number, std::string_view what) const {
  if (number == 0 || number >= super_.blocks) {
    throw Malformed(
        fmt::format("{}: block {} is not one of the file system's {}", what, number, super_.blocks));
  }
  return read_exactly(*meta_, number * super_.block_size, super_.block_size, what);
}

std::uint64_t Volume::inode_place(std::uint32_t number) const {
  std::uint32_t group = number == 0 ? 0 : (number - 1) / super_.inodes_per_group;
  if (number == 0 || number > super_.inodes || group >= inode_tables_.size())
    throw Malformed(fmt::format("inode {} is not one of the file system's {}", number, super_.inodes));
  return checked_add(checked_mul(inode_tables_[group], super_.block_size, "an inode table"),
                     std::uint64_t{(number - 1) % super_.inodes_per_group} * super_.inode_size,
                     "an inode table");
}

Inode Volume::inode(std::uint32_t number) const {
  std::uint64_t at = inode_place(number);
  Bytes raw = read_exactly(*meta_, at, super_.inode_size, "ext inode");
  LittleFields f(raw, "ext inode", at);
  Inode n;
  n.number = number;
  n.mode = f.u16(0);
  n.uid = f.u16(2) | (std::uint32_t{f.u16(120)} << 16);
  n.gid = f.u16(24) | (std::uint32_t{f.u16(122)} << 16);
  n.links = f.u16(26);
  n.flags = f.u32(32);
  n.generation = f.u32(100);
  n.size = f.u32(4);
  if ((n.mode & 0xF000) == 0x8000 || super_.has(kLargeFolders)) n.size |= std::uint64_t{f.u32(108)} << 32;
  n.allocated = f.u32(28) | (std::uint64_t{f.u16(116)} << 32);
  n.allocated *= n.has(kHugeFileFlag) ? super_.block_size : 512;
  n.attribute_block = f.u32(104) | (std::uint64_t{f.u16(118)} << 32);
  n.block.assign(f.bytes(40, 60).begin(), f.bytes(40, 60).end());
  std::size_t extra = super_.inode_size > kInodeFixed ? f.u16(128) : 0;
  if (extra > super_.inode_size - kInodeFixed || extra % 4 != 0) extra = 0;
  auto more = [&](std::size_t field) { return kInodeFixed + extra >= field + 4 ? f.u32(field) : 0; };
  n.changed = time_of(f.u32(12), more(132));
  n.modified = time_of(f.u32(16), more(136));
  n.accessed = time_of(f.u32(8), more(140));
  if (kInodeFixed + extra >= 148) n.created = time_of(f.u32(144), more(148));
  if (super_.inode_size > kInodeFixed)
    n.extra.assign(raw.begin() + static_cast<std::ptrdiff_t>(kInodeFixed + extra), raw.end());
  if (auto own = inode_sum(n, raw)) {
    bool high = extra >= 4;
    std::uint32_t stored = f.u16(124) | (high ? std::uint32_t{f.u16(130)} << 16 : 0);
    n.checksum_fits = stored == (high ? *own : *own & 0xFFFF);
  }
  return n;
}

std::optional<std::uint32_t> Volume::inode_sum(const Inode& inode, Bytes raw) const {
  if (!super_.has(kMetadataChecksum)) return std::nullopt;
  raw[124] = raw[125] = 0;
  if (has_high_sum(raw)) raw[130] = raw[131] = 0;
  return crc32c(seed_of(inode), raw);
}

void Volume::put_inode_sum(const Inode& inode, ByteSpan raw) const {
  auto sum = inode_sum(inode, Bytes(raw.begin(), raw.end()));
  if (!sum) return;
  raw[124] = static_cast<Byte>(*sum);
  raw[125] = static_cast<Byte>(*sum >> 8);
  if (!has_high_sum(raw)) return;
  raw[130] = static_cast<Byte>(*sum >> 16);
  raw[131] = static_cast<Byte>(*sum >> 24);
}

BlocksOfFile Volume::blocks_of(const Inode& inode) const {
  BlocksOfFile out;
  SeenBlocks seen;
  if (inode.has(kExtentsFlag)) {
    tree_blocks(inode, inode.block, 5, seen, out);
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
  for (std::size_t i = 0; i < 15; ++i)
    table(table, load_little<std::uint32_t>(inode.block.data() + i * 4),
          i < 12 ? 0 : static_cast<unsigned>(i - 11));
  return out;
}

void Volume::tree_blocks(const Inode& inode, ByteView node, unsigned level, SeenBlocks& seen,
                         BlocksOfFile& out) const {
  auto head = read_structure<ExtentHead>(node.data());
  if (head.magic != kExtentMagic || head.depth > level || 12 + std::size_t{head.entries} * 12 > node.size())
    throw Malformed(fmt::format("inode {}: an extent node contradicts itself", inode.number));
  for (std::size_t i = 0; i < head.entries; ++i) {
    const Byte* at = node.data() + size_on_disk<ExtentHead> + i * size_on_disk<ExtentRow>;
    if (head.depth > 0) {
      auto index = read_structure<ExtentIndex>(at);
      std::uint64_t child = index.leaf_low | std::uint64_t{index.leaf_high} << 32;
      if (!seen.insert(child).second)
        throw Malformed(
            fmt::format("inode {}: its extent tree leads twice to block {}", inode.number, child));
      out.tables.push_back(child);
      tree_blocks(inode, block(child, "ext extent node"), level - 1, seen, out);
      continue;
    }
    auto row = read_structure<ExtentRow>(at);
    std::uint64_t start = row.start_low | std::uint64_t{row.start_high} << 32;
    std::uint64_t count = row.count > kMostInExtent ? row.count - kMostInExtent : row.count;
    if (start == 0 || start + count > super_.blocks)
      throw Malformed(fmt::format("inode {}: blocks {} to {} are not all among the file system's {}",
                                  inode.number, start, start + count, super_.blocks));
    for (std::uint64_t block_number = start; block_number < start + count; ++block_number)
      out.data.push_back(block_number);
  }
}

std::uint32_t Volume::seed_of(const Inode& inode) const {
  return with_number(with_number(seed_, inode.number, 4), inode.generation, 4);
}

// ---- where the bytes lie

std::vector<Extent> Volume::extents(const Inode& inode) const {
  std::vector<Extent> all;
  if (inode.has(kExtentsFlag)) {
    SeenBlocks seen;
    extent_node(inode, inode.block, 5, seen, all);
  } else {
    all = block_map(inode);
  }
  std::erase_if(all, [&](const Extent& one) { return one.logical >= inode.size; });
  if (!all.empty()) all.back().length = std::min(all.back().length, inode.size - all.back().logical);
  return all;
}

void Volume::extent_node(const Inode& inode, ByteView node, unsigned level, SeenBlocks& seen,
                         std::vector<Extent>& out) const {
  LittleFields f(node, "ext extent node");
  std::uint32_t entries = f.u16(2), most = f.u16(4), depth = f.u16(6);
  if (f.u16(0) != kExtentMagic)
    throw Malformed(fmt::format("inode {}: an extent node lacks its magic", inode.number));
  if (depth > level || entries > most || 12 + std::size_t{entries} * 12 > node.size())
    throw Malformed(fmt::format("inode {}: an extent node contradicts itself", inode.number));
  std::size_t tail = 12 + std::size_t{most} * 12;
  if (super_.has(kMetadataChecksum) && node.size() == super_.block_size && tail + 4 <= node.size() &&
      f.u32(tail) != crc32c(seed_of(inode), node.first(tail))) {
    throw Malformed(fmt::format("inode {}: an extent node does not fit its checksum", inode.number));
  }
  for (std::size_t at = 12; at < 12 + std::size_t{entries} * 12; at += 12) {
    std::uint64_t logical = std::uint64_t{f.u32(at)} * super_.block_size;
    std::uint64_t end = out.empty() ? 0 : out.back().logical + out.back().length;
    if (logical < end)
      throw Malformed(fmt::format("inode {}: its extents overlap or are out of order", inode.number));
    if (depth > 0) {
      std::uint64_t child = f.u32(at + 4) | (std::uint64_t{f.u16(at + 8)} << 32);
      if (!seen.insert(child).second)
        throw Malformed(
            fmt::format("inode {}: its extent tree leads twice to block {}", inode.number, child));
      extent_node(inode, block(child, "ext extent node"), depth - 1, seen, out);
      continue;
    }
    constexpr std::uint32_t kUnwritten = 32768;
    std::uint32_t count = f.u16(at + 4);
    if (count > kUnwritten) continue;  // allocated, never written: reads as zeros
    std::uint64_t start = f.u32(at + 8) | (std::uint64_t{f.u16(at + 6)} << 32);
    if (start == 0 || start + count > super_.blocks) {
      throw Malformed(fmt::format("inode {}: blocks {} to {} are not all among the file system's {}",
                                  inode.number, start, start + count, super_.blocks));
    }
    std::uint64_t stored = start * super_.block_size, length = std::uint64_t{count} * super_.block_size;
    if (!out.empty() && end == logical && out.back().stored + out.back().length == stored) {
      out.back().length += length;
    } else {
      out.push_back({logical, stored, length});
    }
  }
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
    std::uint64_t stored = std::uint64_t{number} * super_.block_size;
    if (!out.empty() && out.back().logical + out.back().length == at &&
        out.back().stored + out.back().length == stored) {
      out.back().length += super_.block_size;
    } else {
      out.push_back({at, stored, super_.block_size});
    }
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
  for (std::size_t i = 0; i < 15; ++i)
    table(table, load_little<std::uint32_t>(inode.block.data() + i * 4),
          i < 12 ? 0 : static_cast<unsigned>(i - 11));
  return out;
}

std::optional<Bytes> Volume::inline_data(const Inode& inode) const {
  bool link = (inode.mode & 0xF000) == 0xA000;
  if (!inode.has(kInlineDataFlag)) {
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

// ---- extended attributes

Attributes Volume::attributes(const Inode& inode) const {
  Attributes out;
  if (inode.extra.size() >= 4 && load_little<std::uint32_t>(inode.extra.data()) == kAttributeMagic) {
    ByteView entries = ByteView(inode.extra).subspan(4);
    add_attributes(entries, entries, false, out);
  }
  if (inode.attribute_block != 0) {
    Bytes raw = block(inode.attribute_block, "ext attribute block");
    LittleFields f(raw, "ext attribute block", inode.attribute_block * super_.block_size);
    if (f.u32(0) != kAttributeMagic)
      throw Malformed(fmt::format("inode {}: its attribute block lacks the magic", inode.number));
    if (super_.has(kMetadataChecksum) &&
        f.u32(16) != sum_without(with_number(seed_, inode.attribute_block, 8), raw, 16, 4))
      throw Malformed(fmt::format("inode {}: its attribute block does not fit its checksum", inode.number));
    add_attributes(ByteView(raw).subspan(32), raw, true, out);
  }
  return out;
}

void Volume::add_attributes(ByteView entries, ByteView values, bool in_block, Attributes& out) const {
  LittleFields f(entries, in_block ? "ext attribute block" : "ext inode attributes");
  for (std::size_t at = 0; at + 16 <= entries.size() && f.u32(at) != 0;) {
    std::size_t length = f.u8(at), value_at = f.u16(at + 2);
    std::uint32_t holder = f.u32(at + 4), size = f.u32(at + 8);
    std::string name(attribute_prefix(f.u8(at + 1)));
    name += f.text(at + 16, length);
    if (holder != 0) {  // a large value has an inode of its own
      Inode value = inode(holder);
      if (value.size > kMaxAttribute || value.has(kInlineDataFlag))
        throw Malformed("an attribute's inode makes no sense");
      Bytes bytes = read_up_to(*data(value), 0, value.size);
      out.emplace_back(std::move(name), as_text(bytes));
    } else {
      out.emplace_back(std::move(name), LittleFields(values, "ext attribute value").text(value_at, size));
    }
    at += 16 + (length + 3) / 4 * 4;
  }
}

}  // namespace operculum::ext
