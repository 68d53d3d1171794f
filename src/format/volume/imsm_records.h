#pragma once

#include "base/structure.h"

namespace operculum::imsm {

// What lies on disk. The last sector but one of each disk begins a description of the group, whose rest,
// where it is longer than a sector, lies in front of it. Behind its head there is a row for each disk, then
// the volumes, each with a map of its disks (two while it is being changed): behind a map so many numbers of
// rows of disks as it has members. A disk is known by its serial number alone, which is not on it.

constexpr std::size_t kSectorSize = 512;
constexpr std::string_view kSignature = "Intel Raid ISM Cfg Sig. ";

/// The anchor, with which the metadata begins.
struct Head {
  std::array<Byte, 32> sig{};
  std::uint32_t check_sum = 0, mpb_size = 0, family_num = 0, generation_num = 0;
  std::uint8_t num_disks = 0, num_raid_devs = 0;
  std::uint32_t orig_family_num = 0;
  static constexpr auto layout = little_endian(
      field("sig", &Head::sig), field("check_sum", &Head::check_sum), field("mpb_size", &Head::mpb_size),
      field("family_num", &Head::family_num), field("generation_num", &Head::generation_num),
      from_byte<0x38>(), field("num_disks", &Head::num_disks), field("num_raid_devs", &Head::num_raid_devs),
      from_byte<0x40>(), field("orig_family_num", &Head::orig_family_num));
};
constexpr std::size_t kDisksAt = 0xD8;

/// A disk of the group.
struct DiskRow {
  std::array<Byte, 16> serial{};
  std::uint32_t total_blocks_lo = 0, scsi_id = 0, status = 0;
  static constexpr auto layout =
      little_endian(field("serial", &DiskRow::serial), field("total_blocks_lo", &DiskRow::total_blocks_lo),
                    field("scsi_id", &DiskRow::scsi_id), field("status", &DiskRow::status));
};
constexpr std::size_t kDiskRowSize = 48;

/// A volume of the group; its maps follow.
struct Volume {
  std::array<Byte, 16> volume{};
  std::uint32_t size_low = 0, size_high = 0;
  std::uint8_t migr_state = 0, migr_type = 0, dirty = 0;
  static constexpr auto layout = little_endian(
      field("volume", &Volume::volume), field("size_low", &Volume::size_low),
      field("size_high", &Volume::size_high), from_byte<88>(), field("migr_state", &Volume::migr_state),
      field("migr_type", &Volume::migr_type), field("dirty", &Volume::dirty));
};
constexpr std::size_t kMapAt = 112;  // in a volume
/// What a volume is being turned into.
enum Migration : std::uint8_t { general_migration = 3, state_change = 4 };

/// Where a volume lies on its members; their numbers follow.
struct Map {
  std::uint32_t pba_of_lba0_lo = 0, blocks_per_member_lo = 0, num_data_stripes_lo = 0;
  std::uint16_t blocks_per_strip = 0;
  std::uint8_t map_state = 0, raid_level = 0, num_members = 0, num_domains = 0, failed_disk_num = 0, ddf = 0;
  std::uint32_t pba_of_lba0_hi = 0, blocks_per_member_hi = 0, num_data_stripes_hi = 0;
  static constexpr auto layout =
      little_endian(field("pba_of_lba0_lo", &Map::pba_of_lba0_lo),
                    field("blocks_per_member_lo", &Map::blocks_per_member_lo),
                    field("num_data_stripes_lo", &Map::num_data_stripes_lo),
                    field("blocks_per_strip", &Map::blocks_per_strip), field("map_state", &Map::map_state),
                    field("raid_level", &Map::raid_level), field("num_members", &Map::num_members),
                    field("num_domains", &Map::num_domains), field("failed_disk_num", &Map::failed_disk_num),
                    field("ddf", &Map::ddf), field("pba_of_lba0_hi", &Map::pba_of_lba0_hi),
                    field("blocks_per_member_hi", &Map::blocks_per_member_hi),
                    field("num_data_stripes_hi", &Map::num_data_stripes_hi));
};
constexpr std::size_t kOrderAt = 48;          // in a map
constexpr std::uint32_t kRebuilt = 1u << 24;  // of a member's number: it is not up to date

}  // namespace operculum::imsm
