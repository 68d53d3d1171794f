// The superblock, and its copies where it is damaged.
#include <fmt/format.h>

#include <bit>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "format/filesystem/ext_records.h"
#include "format/filesystem/ext_volume.h"

namespace operculum::ext {
namespace {

constexpr std::uint32_t kMostLogBlock = 6, kMostLogCluster = 20;  // powers of two, in KiB

std::string text_of(ByteView raw) {
  std::string_view text = as_text(raw);
  return std::string(until_zero(text));
}

[[noreturn]] void refuse(std::uint32_t SuperRecord::*member, std::uint64_t found,
                         const std::string& expected) {
  refuse_field("ext superblock", kSuperAt, member, expected, std::to_string(found));
}

/// The block and cluster sizes.
void take_sizes(const SuperRecord& raw, Superblock& s) {
  if (raw.log_block_size > kMostLogBlock)
    throw Malformed(
        fmt::format("ext superblock: a block size of 2^{} KiB is not possible", raw.log_block_size));
  s.block_size = 1024U << raw.log_block_size;
  if (!s.has(big_alloc_feature)) return;
  if (raw.log_cluster_size < raw.log_block_size || raw.log_cluster_size > kMostLogCluster)
    refuse(&SuperRecord::log_cluster_size, raw.log_cluster_size,
           fmt::format("{} to {}", raw.log_block_size, kMostLogCluster));
  s.cluster_blocks = 1U << (raw.log_cluster_size - raw.log_block_size);
}

/// Throws Malformed for numbers that no file system has.
void check(const SuperRecord& raw, const Superblock& s) {
  std::uint64_t bits = std::uint64_t{s.block_size} * 8 * s.cluster_blocks;  // of a group's bitmap
  if (s.blocks == 0) refuse(&SuperRecord::blocks_low, 0, "at least 1");
  if (s.blocks_per_group == 0 || s.blocks_per_group > bits)
    refuse(&SuperRecord::blocks_per_group, s.blocks_per_group, fmt::format("1 to {}", bits));
  if (s.inodes_per_group == 0) refuse(&SuperRecord::inodes_per_group, 0, "at least 1");
  if (s.first_data_block >= s.blocks)
    refuse(&SuperRecord::first_data_block, s.first_data_block, fmt::format("below {}", s.blocks));
  if (s.inode_size < kInodeSize || s.inode_size > s.block_size || !std::has_single_bit(s.inode_size))
    refuse_field("ext superblock", kSuperAt, &SuperRecord::inode_size,
                 fmt::format("a power of two from {} to {}", kInodeSize, s.block_size),
                 std::to_string(raw.inode_size));
  if (s.descriptor_size > s.block_size)
    refuse_field("ext superblock", kSuperAt, &SuperRecord::descriptor_size,
                 fmt::format("at most {}", s.block_size), std::to_string(raw.descriptor_size));
}

bool sum_fits_in(const Superblock& super, ByteView bytes) {
  return !super.has(metadata_checksum_feature) ||
         sum_fits(crc32c(~0U, bytes.first(kSuperSize - 4)), read_field(&SuperRecord::checksum, bytes.data()));
}

/// The copy in the first group that has one; where that lies depends on the block size, which only it tells.
std::optional<std::pair<Superblock, std::uint64_t>> find_backup(const Source& image) {
  for (std::uint64_t block_size : {4096, 1024, 2048, 65536}) {
    std::uint64_t at = (block_size * 8 + (block_size == 1024 ? 1 : 0)) * block_size;
    Bytes copy = read_up_to(image, at, kSuperSize);
    try {
      if (copy.size() < kSuperSize) continue;
      Superblock super = read_superblock(copy);
      if (super.block_size == block_size && sum_fits_in(super, copy)) return std::pair(std::move(super), at);
    } catch (const Malformed&) {
      continue;
    }
  }
  return std::nullopt;
}

}  // namespace

Superblock read_superblock(ByteView bytes) {
  if (bytes.size() < kSuperSize)
    throw CutShort(
        fmt::format("ext superblock at offset {}: expected {} bytes, found {}; the image is cut short",
                    kSuperAt, kSuperSize, bytes.size()));
  auto raw = read_structure<SuperRecord>(bytes.data());
  if (raw.magic != kMagic) throw Malformed("ext superblock: the magic is missing");
  Superblock s;
  s.revision = raw.revision;
  if (raw.revision > 0) {
    s.compat = raw.compat;
    s.incompat = raw.incompat;
    s.ro_compat = raw.ro_compat;
    s.inode_size = raw.inode_size;
    s.made = raw.made != 0 ? from_unix(raw.made) : Timestamp{};
    s.uuid.assign(raw.uuid.begin(), raw.uuid.end());
    s.label = text_of(raw.label);
    s.last_mounted = text_of(raw.last_mounted);
  }
  s.inodes = raw.inodes;
  s.blocks = raw.blocks_low;
  s.free_blocks = raw.free_blocks_low;
  if (s.has(is_64bit_feature)) {
    s.blocks |= std::uint64_t{raw.blocks_high} << 32;
    s.free_blocks |= std::uint64_t{raw.free_blocks_high} << 32;
    s.descriptor_size = std::max<std::uint32_t>(kGroupDescriptorSize, raw.descriptor_size);
  }
  s.free_inodes = raw.free_inodes;
  s.first_data_block = raw.first_data_block;
  take_sizes(raw, s);
  s.blocks_per_group = raw.blocks_per_group;
  s.inodes_per_group = raw.inodes_per_group;
  s.state = raw.state;
  s.written = from_unix(raw.written);
  s.first_meta_group = raw.first_meta_group;
  s.checksum_seed = raw.checksum_seed;
  check(raw, s);
  return s;
}

Superblock find_superblock(const Source& image, const Report& report) {
  Bytes raw = read_up_to(image, kSuperAt, kSuperSize);
  std::optional<Superblock> super;
  std::string wrong;
  try {
    super = read_superblock(raw);
    if (sum_fits_in(*super, raw)) return *super;
    wrong = "its checksum differs";
  } catch (const Malformed& error) {
    wrong = error.what();
  }
  if (auto backup = find_backup(image)) {
    report(Finding::Level::fault,
           fmt::format("the superblock is damaged ({}); its backup at offset {} was used", wrong,
                       backup->second));
    return backup->first;
  }
  if (!super) throw Malformed(wrong + "; there is no usable backup either");
  report(Finding::Level::warning,
         fmt::format("the superblock may be damaged ({}), and there is no usable backup", wrong));
  return *super;
}

}  // namespace operculum::ext
