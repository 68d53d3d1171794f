#include "format/filesystem/ext_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/numbers.h"
#include "base/sum_text.h"
#include "format/filesystem/ext_sums.h"
#include "io/cached_source.h"

namespace operculum::ext {
namespace {

constexpr std::uint32_t kKnownIncompat =
    file_type_feature | recover_feature | journal_device_feature | meta_groups_feature | extents_feature |
    is_64bit_feature | multi_mount_feature | flex_groups_feature | attribute_inodes_feature |
    checksum_seed_feature | large_folders_feature | inline_data_feature | encrypt_feature | case_fold_feature;
constexpr std::uint64_t kMaxGroups = 1 << 22;
/// CRC-16 (polynomial 0x8005, reflected), as in group descriptors without metadata checksums.
std::uint16_t crc16(std::uint16_t sum, ByteView bytes) {
  for (Byte b : bytes) {
    sum ^= b;
    for (int i = 0; i < 8; ++i)
      sum = static_cast<std::uint16_t>((sum & 1) != 0 ? (sum >> 1) ^ 0xA001 : sum >> 1);
  }
  return sum;
}

constexpr std::uint64_t kUnitOfBlocks = 512;  // bytes: what i_blocks counts, but for huge files

bool has_high_sum(const WideInode& wide) {
  return wide.extra_size >= place_of(&WideInode::checksum_high).at + 2;
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

}  // namespace

Volume::Volume(SourcePtr image, const Report& report)
    : image_(std::move(image)), meta_(make_cached(image_)), super_(find_superblock(*image_, report)) {
  if (std::uint32_t unknown = super_.incompat & ~kKnownIncompat; unknown != 0)
    throw Unsupported(fmt::format("ext feature bits {:#x}{}", unknown,
                                  (unknown & compression_feature) != 0 ? " (compression)" : ""));
  if (super_.has(journal_device_feature)) throw Unsupported("an external journal holds no files");
  seed_ = super_.has(checksum_seed_feature) ? super_.checksum_seed : crc32c(~0U, super_.uuid);
  read_groups(report);
}

std::uint64_t Volume::descriptor_place(std::uint64_t group) const {
  std::uint64_t per_block = super_.block_size / super_.descriptor_size;
  std::uint64_t index = group / per_block, within = (group % per_block) * super_.descriptor_size;
  if (!super_.has(meta_groups_feature) || index < super_.first_meta_group)
    return (kSuperAt / super_.block_size + 1 + index) * super_.block_size + within;
  std::uint64_t first = index * per_block;
  std::uint64_t block = super_.first_data_block + first * super_.blocks_per_group;
  std::uint64_t copies = has_super_copy(super_, first) ? 1 : 0;
  if (first == 0 && super_.block_size == kSuperAt && super_.first_data_block == 0)
    ++copies;  // behind the boot block
  return (block + copies) * super_.block_size + within;
}

void Volume::read_groups(const Report& report) {
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
    auto record = read_structure<GroupDescriptor>(raw.data());
    std::uint64_t table = record.inode_table_low;
    if (raw.size() >= kWideDescriptorSize) {
      auto wide = read_structure<WideDescriptor>(raw.data() + kGroupDescriptorSize);
      table |= std::uint64_t{wide.inode_table_high} << 32;
    }
    damaged += record.checksum != descriptor_sum(group, raw).value_or(record.checksum) ? 1 : 0;
    inode_tables_.push_back(table);
  }
  if (damaged > 0)
    report(Finding::Level::fault,
           fmt::format("{} of {} group descriptors do not fit their checksum", damaged, groups));
}

std::optional<std::uint16_t> Volume::descriptor_sum(std::uint64_t group, ByteView raw) const {
  constexpr std::size_t kSumAt = place_of(&GroupDescriptor::checksum).at;
  if (super_.has(metadata_checksum_feature))
    return static_cast<std::uint16_t>(sum_without(with_number(seed_, group, 4), raw, kSumAt, 2));
  if (!super_.has(group_checksum_feature)) return std::nullopt;
  Byte number[4];
  store_number(number, sizeof number, group);
  std::uint16_t sum = crc16(crc16(crc16(0xFFFF, super_.uuid), number), raw.first(kSumAt));
  return raw.size() > kGroupDescriptorSize ? crc16(sum, raw.subspan(kGroupDescriptorSize)) : sum;
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

/// What larger inodes have behind the fixed part, zeros where it ends before; nothing where its own size
/// cannot be.
WideInode Volume::wide_part(ByteView raw) {
  Byte copy[size_on_disk<WideInode>] = {};
  ByteView behind = raw.subspan(std::min(raw.size(), kInodeSize));
  if (behind.size() < 4) return {};
  std::size_t size = read_field(&WideInode::extra_size, behind.data());
  if (size > behind.size() || size % 4 != 0) return {};
  std::copy_n(behind.begin(), std::min(size, sizeof copy), copy);
  return read_structure<WideInode>(copy);
}

Inode Volume::inode(std::uint32_t number) const {
  Bytes raw = read_exactly(*meta_, inode_place(number), super_.inode_size, "ext inode");
  auto record = read_structure<InodeRecord>(raw.data());
  WideInode wide = wide_part(raw);
  Inode n;
  n.number = number;
  n.mode = record.mode;
  n.uid = record.uid_low | std::uint32_t{record.uid_high} << 16;
  n.gid = record.gid_low | std::uint32_t{record.gid_high} << 16;
  n.links = record.links;
  n.flags = record.flags;
  n.generation = record.generation;
  n.size = record.size_low;
  constexpr std::uint32_t kKind = 0xF000, kRegular = 0x8000;
  if ((n.mode & kKind) == kRegular || super_.has(large_folders_feature))
    n.size |= std::uint64_t{record.size_high} << 32;
  n.allocated = record.blocks_low | std::uint64_t{record.blocks_high} << 32;
  n.allocated *= n.has(huge_file_flag) ? super_.block_size : kUnitOfBlocks;
  n.attribute_block = record.attributes_low | std::uint64_t{record.attributes_high} << 32;
  n.block.assign(record.block.begin(), record.block.end());
  n.changed = time_of(record.changed, wide.changed_extra);
  n.modified = time_of(record.modified, wide.modified_extra);
  n.accessed = time_of(record.accessed, wide.accessed_extra);
  constexpr std::size_t kWithCreated = place_of(&WideInode::created_extra).at;
  if (wide.extra_size >= kWithCreated) n.created = time_of(wide.created, wide.created_extra);
  if (raw.size() > kInodeSize)
    n.extra.assign(raw.begin() + static_cast<std::ptrdiff_t>(kInodeSize + wide.extra_size), raw.end());
  if (auto own = inode_sum(n, raw)) {
    bool high = has_high_sum(wide);
    std::uint32_t stored = record.checksum_low | (high ? std::uint32_t{wide.checksum_high} << 16 : 0);
    std::uint32_t computed = high ? *own : *own & 0xFFFF;
    if (!sum_fits(computed, stored)) n.wrong_sums = told_sums(stored, computed, high ? 8 : 4);
  }
  return n;
}

std::optional<std::uint32_t> Volume::inode_sum(const Inode& inode, Bytes raw) const {
  if (!super_.has(metadata_checksum_feature)) return std::nullopt;
  put_sum(raw, 0);
  return crc32c(seed_of(inode), raw);
}

void Volume::put_inode_sum(const Inode& inode, ByteSpan raw) const {
  if (auto sum = inode_sum(inode, Bytes(raw.begin(), raw.end()))) put_sum(raw, *sum);
}

/// Its two halves lie apart; the upper one is there in larger inodes alone.
void Volume::put_sum(ByteSpan raw, std::uint32_t sum) {
  store_number(raw.data() + place_of(&InodeRecord::checksum_low).at, 2, sum);
  if (has_high_sum(wide_part(raw)))
    store_number(raw.data() + kInodeSize + place_of(&WideInode::checksum_high).at, 2, sum >> 16);
}

std::uint32_t Volume::seed_of(const Inode& inode) const {
  return with_number(with_number(seed_, inode.number, 4), inode.generation, 4);
}

}  // namespace operculum::ext
