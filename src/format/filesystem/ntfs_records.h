#pragma once

#include "base/structure.h"

/// The records of NTFS, with the names that Microsoft's documents and open drivers give them:
///
///   boot sector | clusters, among them the master file table: a record of usually 1 KiB for each file
///
/// A record holds attributes: times, names, data, and of folders an index of names. What does not fit lies in
/// runs of clusters, which mapping pairs list. The last two bytes of each 512 of a record are kept in its
/// update sequence, so that one that was only half written shows.
namespace operculum::ntfs {

/// The boot sector, as far as it tells where things lie.
struct BootSector {
  std::array<Byte, 8> oem{};
  std::uint16_t bytes_per_sector = 0;
  std::uint8_t sectors_per_cluster = 0;
  std::uint64_t total_sectors = 0, mft_cluster = 0, mirror_cluster = 0;
  std::uint8_t clusters_per_record = 0, clusters_per_index_block = 0;
  std::uint64_t serial = 0;
  static constexpr auto layout = little_endian(
      from_byte<3>(), field("OEM ID", &BootSector::oem),
      field("BytesPerSector", &BootSector::bytes_per_sector),
      field("SectorsPerCluster", &BootSector::sectors_per_cluster), from_byte<40>(),
      field("TotalSectors", &BootSector::total_sectors), field("MftStartLcn", &BootSector::mft_cluster),
      field("Mft2StartLcn", &BootSector::mirror_cluster),
      field("ClustersPerFileRecordSegment", &BootSector::clusters_per_record), from_byte<68>(),
      field("ClustersPerIndexBlock", &BootSector::clusters_per_index_block), from_byte<72>(),
      field("VolumeSerialNumber", &BootSector::serial));
};
constexpr std::size_t boot_sector_size = 512;
constexpr std::string_view kOemId = "NTFS    ";

/// MULTI_SECTOR_HEADER, in front of file records ("FILE") and index blocks ("INDX").
struct MultiSectorHeader {
  std::array<Byte, 4> signature{};
  std::uint16_t sequence_at = 0, sequence_count = 0;
  static constexpr auto layout =
      little_endian(field("Signature", &MultiSectorHeader::signature),
                    field("UpdateSequenceArrayOffset", &MultiSectorHeader::sequence_at),
                    field("UpdateSequenceArraySize", &MultiSectorHeader::sequence_count));
};
constexpr std::size_t sequence_stride = 512;

/// A MFT_SEGMENT_REFERENCE: the number of a file, and above its 48 bits how often that was given away.
constexpr std::uint64_t number_of(std::uint64_t reference) {
  return reference & ((std::uint64_t{1} << 48) - 1);
}
constexpr std::uint64_t sequence_of(std::uint64_t reference) {
  return reference >> 48;
}

/// FILE_RECORD_SEGMENT_HEADER.
struct FileRecordHeader {
  std::uint16_t sequence = 0, first_attribute = 0, flags = 0;
  std::uint64_t base = 0;  ///< of a further record of a file
  static constexpr auto layout =
      little_endian(from_byte<16>(), field("SequenceNumber", &FileRecordHeader::sequence), from_byte<20>(),
                    field("FirstAttributeOffset", &FileRecordHeader::first_attribute),
                    field("Flags", &FileRecordHeader::flags), from_byte<32>(),
                    field("BaseFileRecordSegment", &FileRecordHeader::base));
};
/// Bits of a file record's Flags.
enum FileRecordFlag : std::uint16_t { record_in_use = 1, record_is_folder = 2 };

/// ATTRIBUTE_RECORD_HEADER.
struct AttributeHeader {
  std::uint32_t type = 0, length = 0;
  std::uint8_t form = 0, name_length = 0;
  std::uint16_t name_at = 0, flags = 0;
  static constexpr auto layout = little_endian(
      field("TypeCode", &AttributeHeader::type), field("RecordLength", &AttributeHeader::length),
      field("FormCode", &AttributeHeader::form), field("NameLength", &AttributeHeader::name_length),
      field("NameOffset", &AttributeHeader::name_at), field("Flags", &AttributeHeader::flags));
};
constexpr std::size_t attribute_head_size = 8, least_attribute_size = 24;

/// Its continuation where the value lies in the record.
struct ResidentForm {
  std::uint32_t value_length = 0;
  std::uint16_t value_at = 0;
  static constexpr auto layout =
      little_endian(from_byte<16>(), field("ValueLength", &ResidentForm::value_length),
                    field("ValueOffset", &ResidentForm::value_at));
};
/// And where it lies elsewhere. Sizes are those of the whole, and stand in its first part only.
struct NonresidentForm {
  std::uint64_t lowest_vcn = 0;
  std::uint16_t pairs_at = 0;
  std::uint8_t unit_shift = 0;
  static constexpr auto layout =
      little_endian(from_byte<16>(), field("LowestVcn", &NonresidentForm::lowest_vcn), from_byte<32>(),
                    field("MappingPairsOffset", &NonresidentForm::pairs_at),
                    field("CompressionUnit", &NonresidentForm::unit_shift));
};
/// Sizes of an attribute that lies in clusters of its own, in bytes.
struct NonresidentSizes {
  std::uint64_t allocated = 0, size = 0, initialised = 0;
  static constexpr auto layout = little_endian(
      from_byte<40>(), field("AllocatedLength", &NonresidentSizes::allocated),
      field("FileSize", &NonresidentSizes::size), field("ValidDataLength", &NonresidentSizes::initialised));
};
/// What a packed attribute takes on disk.
struct PackedSize {
  std::uint64_t total_allocated = 0;
  static constexpr auto layout =
      little_endian(from_byte<64>(), field("TotalAllocated", &PackedSize::total_allocated));
};

/// ATTRIBUTE_LIST_ENTRY; its name follows.
struct ListEntry {
  std::uint32_t type = 0;
  std::uint16_t length = 0;
  std::uint64_t lowest_vcn = 0, segment = 0;
  std::uint16_t instance = 0;
  static constexpr auto layout =
      little_endian(field("AttributeTypeCode", &ListEntry::type), field("RecordLength", &ListEntry::length),
                    from_byte<8>(), field("LowestVcn", &ListEntry::lowest_vcn),
                    field("SegmentReference", &ListEntry::segment), field("Instance", &ListEntry::instance));
};

/// STANDARD_INFORMATION. Times are FILETIMEs.
struct StandardInformation {
  std::uint64_t created = 0, modified = 0, changed = 0, accessed = 0;
  std::uint32_t attributes = 0;
  static constexpr auto layout = little_endian(field("CreationTime", &StandardInformation::created),
                                               field("LastModificationTime", &StandardInformation::modified),
                                               field("LastChangeTime", &StandardInformation::changed),
                                               field("LastAccessTime", &StandardInformation::accessed),
                                               field("FileAttributes", &StandardInformation::attributes));
};
constexpr std::uint32_t file_read_only = 1;

/// FILE_NAME; the name follows in UTF-16.
struct FileName {
  std::uint64_t parent = 0;
  std::uint8_t length = 0, flags = 0;
  static constexpr auto layout =
      little_endian(field("ParentDirectory", &FileName::parent), from_byte<64>(),
                    field("FileNameLength", &FileName::length), field("Flags", &FileName::flags));
};
constexpr std::uint8_t short_name_only = 2;

/// INDEX_ROOT, with the header of its entries behind it, as index blocks have one behind theirs.
struct IndexRoot {
  std::uint32_t attribute_type = 0, collation = 0, block_size = 0;
  static constexpr auto layout = little_endian(field("IndexedAttributeType", &IndexRoot::attribute_type),
                                               field("CollationRule", &IndexRoot::collation),
                                               field("BytesPerIndexBuffer", &IndexRoot::block_size));
};
constexpr std::size_t index_root_size = 16, index_block_head_size = 24;

/// INDEX_HEADER.
struct IndexHeader {
  std::uint32_t first_entry = 0, free_at = 0;
  static constexpr auto layout = little_endian(field("FirstIndexEntry", &IndexHeader::first_entry),
                                               field("FirstFreeByte", &IndexHeader::free_at));
};

/// INDEX_ENTRY of a folder; a FileName follows.
struct IndexEntry {
  std::uint64_t reference = 0;
  std::uint16_t length = 0, key_length = 0, flags = 0, reserved = 0;
  static constexpr auto layout =
      little_endian(field("FileReference", &IndexEntry::reference), field("Length", &IndexEntry::length),
                    field("AttributeLength", &IndexEntry::key_length), field("Flags", &IndexEntry::flags),
                    field("Reserved", &IndexEntry::reserved));
};
constexpr std::uint16_t index_entry_end = 2;

/// A reparse point whose data the overlay filter keeps: REPARSE_DATA_BUFFER, WOF_EXTERNAL_INFO.
struct OverlayPoint {
  std::uint32_t tag = 0, version = 0, provider = 0;
  static constexpr auto layout =
      little_endian(field("ReparseTag", &OverlayPoint::tag), from_byte<8>(),
                    field("Version", &OverlayPoint::version), field("Provider", &OverlayPoint::provider));
};
/// FILE_PROVIDER_EXTERNAL_INFO, where the provider is the file itself.
struct OverlayOfFile {
  std::uint32_t version = 0, algorithm = 0;
  static constexpr auto layout = little_endian(from_byte<16>(), field("Version", &OverlayOfFile::version),
                                               field("Algorithm", &OverlayOfFile::algorithm));
};

}  // namespace operculum::ntfs
