#pragma once

#include "base/structure.h"

namespace operculum::ddf {

// What lies on disk (Common RAID Disk Data Format, SNIA, 2.0). The last sector of each disk is an anchor, a
// header that tells where the header and its copy are. Beside the header, at sectors counted from it, lie
// sections: the disks of the group, its virtual disks, the configuration records (one for each set of disks
// that a virtual disk is made of and that this disk belongs to), and which of the disks this one is. What is
// not used is 0xff.

using Guid = std::array<Byte, 24>;
constexpr std::size_t kSectorSize = 512;  // all places are counted in these

/// What each structure begins with.
enum Signature : std::uint32_t {
  header_signature = 0xDE11DE11,
  disks_signature = 0x22222222,
  disk_signature = 0x33333333,
  volumes_signature = 0xDDDDDDDD,
  configuration_signature = 0xEEEEEEEE,
};

/// The header, of which there are up to three copies.
struct Header {
  std::uint32_t signature = 0, crc = 0;
  Guid guid{};
  std::array<Byte, 8> revision{};
  std::uint32_t sequence = 0, timestamp = 0;
  std::uint64_t primary_lba = 0, secondary_lba = 0;
  std::uint16_t record_size = 0, most_members = 0;
  std::uint32_t disks_at = 0, disks_size = 0, volumes_at = 0, volumes_size = 0, records_at = 0,
                records_size = 0, own_at = 0, own_size = 0;
  static constexpr auto layout =
      big_endian(field("Signature", &Header::signature), field("CRC", &Header::crc),
                 field("DDF_Header_GUID", &Header::guid), field("DDF_rev", &Header::revision),
                 field("Sequence_Number", &Header::sequence), field("TimeStamp", &Header::timestamp),
                 from_byte<96>(), field("Primary_DDF_Header_LBA", &Header::primary_lba),
                 field("Secondary_DDF_Header_LBA", &Header::secondary_lba), from_byte<134>(),
                 field("Configuration_Record_Length", &Header::record_size),
                 field("Max_Primary_Element_Entries", &Header::most_members), from_byte<200>(),
                 field("Physical_Disk_Records_Section", &Header::disks_at),
                 field("Physical_Disk_Records_Section_Length", &Header::disks_size),
                 field("Virtual_Disk_Records_Section", &Header::volumes_at),
                 field("Virtual_Disk_Records_Section_Length", &Header::volumes_size),
                 field("Configuration_Records_Section", &Header::records_at),
                 field("Configuration_Records_Section_Length", &Header::records_size),
                 field("Physical_Disk_Data_Section", &Header::own_at),
                 field("Physical_Disk_Data_Section_Length", &Header::own_size));
};

/// In front of the rows of disks, and of virtual disks.
struct TableHead {
  std::uint32_t signature = 0, crc = 0;
  std::uint16_t used = 0, most = 0;
  static constexpr auto layout =
      big_endian(field("Signature", &TableHead::signature), field("CRC", &TableHead::crc),
                 field("Populated entries", &TableHead::used), field("Max entries", &TableHead::most));
};
constexpr std::size_t kRowsAt = 64;

/// A row of the table of virtual disks.
struct VolumeRow {
  Guid guid{};
  std::array<Byte, 16> name{};
  static constexpr auto layout =
      big_endian(field("VD_GUID", &VolumeRow::guid), from_byte<48>(), field("VD_Name", &VolumeRow::name));
};
constexpr std::size_t kRowSize = 64;

/// One set of disks of a virtual disk. Behind it, from kMembersAt on, the references of its disks, then where
/// it begins on each, both with room for as many members as the header says.
struct Configuration {
  std::uint32_t signature = 0, crc = 0;
  Guid guid{};
  std::uint32_t sequence = 0;
  std::uint16_t members = 0;
  std::uint8_t stripe_shift = 0, level = 0, qualifier = 0, sets = 0, set = 0, secondary_level = 0;
  std::uint64_t blocks = 0, size = 0;
  static constexpr auto layout = big_endian(
      field("Signature", &Configuration::signature), field("CRC", &Configuration::crc),
      field("VD_GUID", &Configuration::guid), from_byte<36>(),
      field("Sequence_Number", &Configuration::sequence), from_byte<64>(),
      field("Primary_Element_Count", &Configuration::members),
      field("Strip_Size", &Configuration::stripe_shift), field("Primary_RAID_Level", &Configuration::level),
      field("RAID_Level_Qualifier", &Configuration::qualifier),
      field("Secondary_Element_Count", &Configuration::sets),
      field("Secondary_Element_Seq", &Configuration::set),
      field("Secondary_RAID_Level", &Configuration::secondary_level),
      field("Block_Count", &Configuration::blocks), field("Size", &Configuration::size));
};
constexpr std::size_t kMembersAt = 512;

/// Which disk this is.
struct OwnDisk {
  std::uint32_t signature = 0, crc = 0;
  Guid guid{};
  std::uint32_t reference = 0;
  static constexpr auto layout =
      big_endian(field("Signature", &OwnDisk::signature), field("CRC", &OwnDisk::crc),
                 field("PD_GUID", &OwnDisk::guid), field("PD_Reference", &OwnDisk::reference));
};

}  // namespace operculum::ddf
