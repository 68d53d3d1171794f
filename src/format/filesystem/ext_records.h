#pragma once

#include "base/structure.h"

/// Records of ext file systems as far as they are written, with the names of the Linux kernel's
/// documentation.
namespace operculum::ext {

constexpr std::uint64_t kSuperAt = 1024;
constexpr std::size_t kSuperSize = 1024;
constexpr std::uint16_t kExtentMagic = 0xF30A;
constexpr std::uint16_t kMostInExtent = 32768;  // blocks; more stand for blocks that were never written

/// What of a superblock changes with the blocks in use.
struct SuperCounts {
  std::uint32_t free_low = 0, free_high = 0, checksum = 0;
  static constexpr auto layout =
      little_endian(from_byte<0x0C>(), field("s_free_blocks_count_lo", &SuperCounts::free_low),
                    from_byte<0x158>(), field("s_free_blocks_count_hi", &SuperCounts::free_high),
                    from_byte<0x3FC>(), field("s_checksum", &SuperCounts::checksum));
};

struct GroupDescriptor {
  static constexpr std::uint16_t kBlocksUninit = 2;  // in `flags`: the bitmap was never written
  std::uint32_t bitmap_low = 0;
  std::uint16_t free_low = 0, flags = 0, bitmap_sum_low = 0, checksum = 0;
  static constexpr auto layout =
      little_endian(field("bg_block_bitmap_lo", &GroupDescriptor::bitmap_low), from_byte<0x0C>(),
                    field("bg_free_blocks_count_lo", &GroupDescriptor::free_low), from_byte<0x12>(),
                    field("bg_flags", &GroupDescriptor::flags), from_byte<0x18>(),
                    field("bg_block_bitmap_csum_lo", &GroupDescriptor::bitmap_sum_low), from_byte<0x1E>(),
                    field("bg_checksum", &GroupDescriptor::checksum));
};
/// Behind it where descriptors have 64 bytes.
struct WideDescriptor {
  std::uint32_t bitmap_high = 0;
  std::uint16_t free_high = 0, bitmap_sum_high = 0;
  static constexpr auto layout =
      little_endian(field("bg_block_bitmap_hi", &WideDescriptor::bitmap_high), from_byte<0x0C>(),
                    field("bg_free_blocks_count_hi", &WideDescriptor::free_high), from_byte<0x18>(),
                    field("bg_block_bitmap_csum_hi", &WideDescriptor::bitmap_sum_high));
};

/// What of an inode changes with its content.
struct InodePlaces {
  std::uint32_t size_low = 0, blocks_low = 0;
  std::array<Byte, 60> block{};
  std::uint32_t size_high = 0;
  std::uint16_t blocks_high = 0, checksum_low = 0;
  static constexpr auto layout = little_endian(
      from_byte<0x04>(), field("i_size_lo", &InodePlaces::size_low), from_byte<0x1C>(),
      field("i_blocks_lo", &InodePlaces::blocks_low), from_byte<0x28>(),
      field("i_block", &InodePlaces::block), from_byte<0x6C>(), field("i_size_high", &InodePlaces::size_high),
      from_byte<0x74>(), field("l_i_blocks_high", &InodePlaces::blocks_high), from_byte<0x7C>(),
      field("l_i_checksum_lo", &InodePlaces::checksum_low));
};

struct ExtentHead {
  std::uint16_t magic = kExtentMagic, entries = 0, most = 0, depth = 0;
  std::uint32_t generation = 0;
  static constexpr auto layout =
      little_endian(field("eh_magic", &ExtentHead::magic), field("eh_entries", &ExtentHead::entries),
                    field("eh_max", &ExtentHead::most), field("eh_depth", &ExtentHead::depth),
                    field("eh_generation", &ExtentHead::generation));
};
struct ExtentRow {
  std::uint32_t logical = 0;
  std::uint16_t count = 0, start_high = 0;
  std::uint32_t start_low = 0;
  static constexpr auto layout = little_endian(
      field("ee_block", &ExtentRow::logical), field("ee_len", &ExtentRow::count),
      field("ee_start_hi", &ExtentRow::start_high), field("ee_start_lo", &ExtentRow::start_low));
};
struct ExtentIndex {
  std::uint32_t logical = 0, leaf_low = 0;
  std::uint16_t leaf_high = 0, unused = 0;
  static constexpr auto layout =
      little_endian(field("ei_block", &ExtentIndex::logical), field("ei_leaf_lo", &ExtentIndex::leaf_low),
                    field("ei_leaf_hi", &ExtentIndex::leaf_high), field("ei_unused", &ExtentIndex::unused));
};

}  // namespace operculum::ext
