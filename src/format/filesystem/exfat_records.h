#pragma once

#include "base/structure.h"

/// The records of exFAT, with the names of its specification (revision 1.00):
///
///   boot region (12 sectors, the last with its checksum) | its copy | allocation table | heap of clusters
///
/// A folder is a file of rows of 32 bytes. A file is a set of rows: its file entry, a stream extension (where
/// it lies), and names of 15 letters each. A file whose clusters follow each other says so, and has no chain
/// in the table.
namespace operculum::exfat {

constexpr std::size_t kBootSize = 512, kRowSize = 32, kNameLetters = 15;
constexpr std::uint64_t kBootSectors = 12;
constexpr std::string_view kFileSystemName = "EXFAT   ";

/// 3.1.
struct BootRecord {
  std::array<Byte, 8> name{};
  std::uint64_t volume_length = 0;
  std::uint32_t fat_offset = 0, fat_length = 0, heap_offset = 0, cluster_count = 0, root_cluster = 0,
                serial = 0;
  std::uint16_t flags = 0;
  std::uint8_t sector_shift = 0, cluster_shift = 0;
  static constexpr auto layout = little_endian(
      from_byte<3>(), field("FileSystemName", &BootRecord::name), from_byte<72>(),
      field("VolumeLength", &BootRecord::volume_length), field("FatOffset", &BootRecord::fat_offset),
      field("FatLength", &BootRecord::fat_length), field("ClusterHeapOffset", &BootRecord::heap_offset),
      field("ClusterCount", &BootRecord::cluster_count),
      field("FirstClusterOfRootDirectory", &BootRecord::root_cluster),
      field("VolumeSerialNumber", &BootRecord::serial), from_byte<106>(),
      field("VolumeFlags", &BootRecord::flags), field("BytesPerSectorShift", &BootRecord::sector_shift),
      field("SectorsPerClusterShift", &BootRecord::cluster_shift));
};
/// Bits of VolumeFlags.
enum VolumeFlag : std::uint16_t { volume_dirty = 2, media_failure = 4 };
/// Bytes of the boot region that change while it is mounted: VolumeFlags and PercentInUse (3.4).
constexpr bool is_summed(std::size_t at) {
  return at != 106 && at != 107 && at != 112;
}

/// 6.2: of each row the first byte.
enum EntryType : std::uint8_t {
  allocation_bitmap = 0x81,
  volume_label = 0x83,
  file_entry = 0x85,
  stream_extension = 0xC0,
  file_name = 0xC1,
};

/// 7.1.
struct BitmapRow {
  std::uint8_t type = 0, flags = 0;
  std::uint32_t first_cluster = 0;
  std::uint64_t length = 0;
  static constexpr auto layout = little_endian(
      field("EntryType", &BitmapRow::type), field("BitmapFlags", &BitmapRow::flags), from_byte<20>(),
      field("FirstCluster", &BitmapRow::first_cluster), field("DataLength", &BitmapRow::length));
};

/// 7.3.
struct LabelRow {
  std::uint8_t type = 0, count = 0;
  std::array<Byte, 22> label{};
  static constexpr auto layout =
      little_endian(field("EntryType", &LabelRow::type), field("CharacterCount", &LabelRow::count),
                    field("VolumeLabel", &LabelRow::label));
};

/// 7.4. Times are those of FAT, with hundredths of two seconds, and quarters of an hour from UTC.
struct FileRow {
  std::uint8_t type = 0, secondary_count = 0;
  std::uint16_t checksum = 0, attributes = 0;
  std::uint32_t created = 0, modified = 0, accessed = 0;
  std::uint8_t created_10ms = 0, modified_10ms = 0, created_zone = 0, modified_zone = 0, accessed_zone = 0;
  static constexpr auto layout = little_endian(
      field("EntryType", &FileRow::type), field("SecondaryCount", &FileRow::secondary_count),
      field("SetChecksum", &FileRow::checksum), field("FileAttributes", &FileRow::attributes), from_byte<8>(),
      field("CreateTimestamp", &FileRow::created), field("LastModifiedTimestamp", &FileRow::modified),
      field("LastAccessedTimestamp", &FileRow::accessed),
      field("Create10msIncrement", &FileRow::created_10ms),
      field("LastModified10msIncrement", &FileRow::modified_10ms),
      field("CreateUtcOffset", &FileRow::created_zone),
      field("LastModifiedUtcOffset", &FileRow::modified_zone),
      field("LastAccessedUtcOffset", &FileRow::accessed_zone));
};
/// Bits of FileAttributes.
enum Attribute : std::uint16_t { read_only = 1, directory = 16 };
constexpr bool is_set_summed(std::size_t at) {
  return at != 2 && at != 3;
}

/// 7.6.
struct StreamRow {
  std::uint8_t type = 0, flags = 0, name_length = 0;
  std::uint64_t valid_length = 0;
  std::uint32_t first_cluster = 0;
  std::uint64_t length = 0;
  static constexpr auto layout = little_endian(
      field("EntryType", &StreamRow::type), field("GeneralSecondaryFlags", &StreamRow::flags), from_byte<3>(),
      field("NameLength", &StreamRow::name_length), from_byte<8>(),
      field("ValidDataLength", &StreamRow::valid_length), from_byte<20>(),
      field("FirstCluster", &StreamRow::first_cluster), field("DataLength", &StreamRow::length));
};
/// Bits of GeneralSecondaryFlags of a stream extension.
enum StreamFlag : std::uint8_t { no_fat_chain = 2 };

/// 7.7.
struct NameRow {
  std::uint8_t type = 0, flags = 0;
  std::array<Byte, 2 * kNameLetters> name{};
  static constexpr auto layout =
      little_endian(field("EntryType", &NameRow::type), field("GeneralSecondaryFlags", &NameRow::flags),
                    field("FileName", &NameRow::name));
};

}  // namespace operculum::exfat
