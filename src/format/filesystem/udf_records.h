#pragma once

#include "base/structure.h"

/// The records of UDF, with the names of ECMA-167 (3rd edition) and of the UDF specification (2.60):
///
///   recognition (sector 16) | anchor (256) -> volume descriptors -> partitions, logical volume -> file set
///   -> file entry of the root folder -> file identifiers -> file entries ...
///
/// Every descriptor begins with a tag that has a checksum of itself and one of what follows. A logical volume
/// maps its blocks to partitions: directly, with bad packets kept elsewhere (sparable), with folders and file
/// entries in a file of their own (metadata), or through a table that is written anew each time (virtual).
namespace operculum::udf {

using TimeField = std::array<Byte, 12>;

/// 3/7.2.
struct TagRecord {
  std::uint16_t identifier = 0, version = 0;
  std::uint8_t checksum = 0, reserved = 0;
  std::uint16_t serial = 0, crc = 0, crc_length = 0;
  std::uint32_t location = 0;
  static constexpr auto layout = little_endian(
      field("TagIdentifier", &TagRecord::identifier), field("DescriptorVersion", &TagRecord::version),
      field("TagChecksum", &TagRecord::checksum), field("Reserved", &TagRecord::reserved),
      field("TagSerialNumber", &TagRecord::serial), field("DescriptorCRC", &TagRecord::crc),
      field("DescriptorCRCLength", &TagRecord::crc_length), field("TagLocation", &TagRecord::location));
};
constexpr std::size_t kTagSize = size_on_disk<TagRecord>;
static_assert(kTagSize == 16);

/// 1/7.3.
struct TimeRecord {
  std::uint16_t type_and_zone = 0, year = 0;
  std::uint8_t month = 0, day = 0, hour = 0, minute = 0, second = 0, centiseconds = 0,
               hundreds_of_microseconds = 0, microseconds = 0;
  static constexpr auto layout =
      little_endian(field("TypeAndTimezone", &TimeRecord::type_and_zone), field("Year", &TimeRecord::year),
                    field("Month", &TimeRecord::month), field("Day", &TimeRecord::day),
                    field("Hour", &TimeRecord::hour), field("Minute", &TimeRecord::minute),
                    field("Second", &TimeRecord::second), field("Centiseconds", &TimeRecord::centiseconds),
                    field("HundredsofMicroseconds", &TimeRecord::hundreds_of_microseconds),
                    field("Microseconds", &TimeRecord::microseconds));
};

/// 3/10.2: the two sequences of volume descriptors.
struct AnchorRecord {
  std::uint32_t main_length = 0, main_location = 0, reserve_length = 0, reserve_location = 0;
  static constexpr auto layout = little_endian(
      from_byte<kTagSize>(), field("MainVolumeDescriptorSequenceExtent.Length", &AnchorRecord::main_length),
      field("MainVolumeDescriptorSequenceExtent.Location", &AnchorRecord::main_location),
      field("ReserveVolumeDescriptorSequenceExtent.Length", &AnchorRecord::reserve_length),
      field("ReserveVolumeDescriptorSequenceExtent.Location", &AnchorRecord::reserve_location));
};

/// 3/10.5.
struct PartitionRecord {
  std::uint16_t number = 0;
  std::uint32_t start = 0, length = 0;  // sectors
  static constexpr auto layout =
      little_endian(from_byte<22>(), field("PartitionNumber", &PartitionRecord::number), from_byte<188>(),
                    field("PartitionStartingLocation", &PartitionRecord::start),
                    field("PartitionLength", &PartitionRecord::length));
};

/// 3/10.6; the partition maps follow.
struct LogicalVolumeRecord {
  std::array<Byte, 128> identifier{};
  std::uint32_t block_size = 0;
  std::uint16_t revision = 0;
  std::uint32_t file_set_block = 0;
  std::uint16_t file_set_partition = 0;
  std::uint32_t maps = 0, integrity_length = 0, integrity_location = 0;
  static constexpr auto layout = little_endian(
      from_byte<84>(), field("LogicalVolumeIdentifier", &LogicalVolumeRecord::identifier),
      field("LogicalBlockSize", &LogicalVolumeRecord::block_size), from_byte<240>(),
      field("DomainIdentifier.UDFRevision", &LogicalVolumeRecord::revision), from_byte<252>(),
      field("LogicalVolumeContentsUse.Block", &LogicalVolumeRecord::file_set_block),
      field("LogicalVolumeContentsUse.Partition", &LogicalVolumeRecord::file_set_partition), from_byte<268>(),
      field("NumberofPartitionMaps", &LogicalVolumeRecord::maps), from_byte<432>(),
      field("IntegritySequenceExtent.Length", &LogicalVolumeRecord::integrity_length),
      field("IntegritySequenceExtent.Location", &LogicalVolumeRecord::integrity_location));
};
constexpr std::size_t kMapsAt = size_on_disk<LogicalVolumeRecord>;
static_assert(kMapsAt == 440);

/// 3/10.7.2: blocks of a partition as they are.
struct PlainMap {
  std::uint8_t type = 0, length = 0;
  std::uint16_t volume = 0, partition = 0;
  static constexpr auto layout = little_endian(
      field("PartitionMapType", &PlainMap::type), field("PartitionMapLength", &PlainMap::length),
      field("VolumeSequenceNumber", &PlainMap::volume), field("PartitionNumber", &PlainMap::partition));
};
/// UDF 2.2.8 to 2.2.10: what lies between is told by its name.
struct NamedMap {
  std::array<Byte, 23> name{};
  std::uint16_t partition = 0;
  static constexpr auto layout =
      little_endian(from_byte<5>(), field("PartitionTypeIdentifier.Identifier", &NamedMap::name),
                    from_byte<38>(), field("PartitionNumber", &NamedMap::partition));
};
constexpr std::size_t kNamedMapSize = 64;
/// The map of a partition with replacements for damaged packets (UDF 2.60, 2.2.9).
struct SparableMap {
  std::uint16_t packet = 0;  // sectors
  std::uint8_t tables = 0;
  std::uint32_t table_size = 0, table_0 = 0, table_1 = 0, table_2 = 0, table_3 = 0;
  static constexpr auto layout =
      little_endian(from_byte<40>(), field("PacketLength", &SparableMap::packet),
                    field("NumberofSparingTables", &SparableMap::tables), from_byte<44>(),
                    field("SizeofEachSparingTable", &SparableMap::table_size),
                    field("LocationsofSparingTables[0]", &SparableMap::table_0),
                    field("LocationsofSparingTables[1]", &SparableMap::table_1),
                    field("LocationsofSparingTables[2]", &SparableMap::table_2),
                    field("LocationsofSparingTables[3]", &SparableMap::table_3));
};
/// The map of a partition whose blocks are those of a file (UDF 2.60, 2.2.10).
struct MetadataMap {
  std::uint32_t file = 0, mirror = 0;
  static constexpr auto layout =
      little_endian(from_byte<40>(), field("MetadataFileLocation", &MetadataMap::file),
                    field("MetadataMirrorFileLocation", &MetadataMap::mirror));
};

/// UDF 2.2.12; the rows follow.
struct SparingHead {
  std::uint16_t rows = 0;
  static constexpr auto layout =
      little_endian(from_byte<48>(), field("ReallocationTableLength", &SparingHead::rows), from_byte<56>());
};
/// Where a packet that cannot be written lies instead (UDF 2.60, 2.2.12).
struct SparingRow {
  std::uint32_t original = 0, mapped = 0;
  static constexpr auto layout = little_endian(field("OriginalLocation", &SparingRow::original),
                                               field("MappedLocation", &SparingRow::mapped));
};

/// 3/10.10; free and total blocks of each partition follow.
struct IntegrityRecord {
  TimeField recorded{};
  std::uint32_t type = 0, partitions = 0;
  static constexpr auto layout =
      little_endian(from_byte<16>(), field("RecordingDateAndTime", &IntegrityRecord::recorded),
                    field("IntegrityType", &IntegrityRecord::type), from_byte<72>(),
                    field("NumberOfPartitions", &IntegrityRecord::partitions), from_byte<80>());
};

/// 4/14.1.
struct FileSetRecord {
  std::uint32_t root_block = 0;
  std::uint16_t root_partition = 0;
  static constexpr auto layout =
      little_endian(from_byte<404>(), field("RootDirectoryICB.Block", &FileSetRecord::root_block),
                    field("RootDirectoryICB.Partition", &FileSetRecord::root_partition));
};

/// 4/14.4; implementation use and the name follow.
struct FileIdentifier {
  std::uint8_t about = 0, name_length = 0;
  std::uint32_t block = 0;
  std::uint16_t partition = 0, use_length = 0;
  static constexpr auto layout = little_endian(
      from_byte<18>(), field("FileCharacteristics", &FileIdentifier::about),
      field("LengthofFileIdentifier", &FileIdentifier::name_length), from_byte<24>(),
      field("ICB.Block", &FileIdentifier::block), field("ICB.Partition", &FileIdentifier::partition),
      from_byte<36>(), field("LengthofImplementationUse", &FileIdentifier::use_length));
};
static_assert(size_on_disk<FileIdentifier> == 38);

/// 4/14.9 and 4/14.17 up to where they part.
struct FileEntryHead {
  std::uint8_t type = 0;
  std::uint16_t flags = 0;
  std::uint32_t uid = 0, gid = 0, permissions = 0;
  std::uint16_t links = 0;
  std::uint64_t size = 0;
  static constexpr auto layout =
      little_endian(from_byte<27>(), field("ICBTag.FileType", &FileEntryHead::type), from_byte<34>(),
                    field("ICBTag.Flags", &FileEntryHead::flags), field("Uid", &FileEntryHead::uid),
                    field("Gid", &FileEntryHead::gid), field("Permissions", &FileEntryHead::permissions),
                    field("FileLinkCount", &FileEntryHead::links), from_byte<56>(),
                    field("InformationLength", &FileEntryHead::size));
};
/// 4/14.9; extended attributes and allocation descriptors follow.
struct FileEntryRest {
  std::uint64_t blocks = 0;
  TimeField accessed{}, modified{}, changed{};
  std::uint32_t attributes_length = 0, allocation_length = 0;
  static constexpr auto layout = little_endian(
      from_byte<64>(), field("LogicalBlocksRecorded", &FileEntryRest::blocks),
      field("AccessTime", &FileEntryRest::accessed), field("ModificationTime", &FileEntryRest::modified),
      field("AttributeTime", &FileEntryRest::changed), from_byte<168>(),
      field("LengthofExtendedAttributes", &FileEntryRest::attributes_length),
      field("LengthofAllocationDescriptors", &FileEntryRest::allocation_length));
};
/// 4/14.17; likewise.
struct ExtendedEntryRest {
  std::uint64_t blocks = 0;
  TimeField accessed{}, modified{}, created{}, changed{};
  std::uint32_t attributes_length = 0, allocation_length = 0;
  static constexpr auto layout = little_endian(
      from_byte<72>(), field("LogicalBlocksRecorded", &ExtendedEntryRest::blocks),
      field("AccessTime", &ExtendedEntryRest::accessed),
      field("ModificationTime", &ExtendedEntryRest::modified),
      field("CreationTime", &ExtendedEntryRest::created), field("AttributeTime", &ExtendedEntryRest::changed),
      from_byte<208>(), field("LengthofExtendedAttributes", &ExtendedEntryRest::attributes_length),
      field("LengthofAllocationDescriptors", &ExtendedEntryRest::allocation_length));
};

/// 4/14.10.8: an extended attribute that is a device's numbers.
struct DeviceAttribute {
  static constexpr std::uint32_t kType = 12;
  std::uint32_t type = 0, length = 0, major = 0, minor = 0;
  static constexpr auto layout =
      little_endian(field("AttributeType", &DeviceAttribute::type), from_byte<8>(),
                    field("AttributeLength", &DeviceAttribute::length), from_byte<16>(),
                    field("MajorDeviceIdentification", &DeviceAttribute::major),
                    field("MinorDeviceIdentification", &DeviceAttribute::minor));
};
constexpr std::size_t kAttributesHeadSize = 24;  // in front of the attributes

/// 4/14.14.1: within the partition of its file entry. The upper two bits of the length are the kind.
struct ShortAllocation {
  std::uint32_t length = 0, block = 0;
  static constexpr auto layout = little_endian(field("ExtentLength", &ShortAllocation::length),
                                               field("ExtentPosition", &ShortAllocation::block));
};
/// 4/14.14.2.
struct LongAllocation {
  std::uint32_t length = 0, block = 0;
  std::uint16_t partition = 0;
  static constexpr auto layout = little_endian(
      field("ExtentLength", &LongAllocation::length), field("ExtentLocation.Block", &LongAllocation::block),
      field("ExtentLocation.Partition", &LongAllocation::partition), from_byte<16>());
};

/// 4/14.5: where allocation descriptors go on; they follow.
struct AllocationExtent {
  std::uint32_t length = 0;
  static constexpr auto layout =
      little_endian(from_byte<20>(), field("LengthofAllocationDescriptors", &AllocationExtent::length));
};

/// 4/14.16.1; its identifier follows.
struct PathComponent {
  std::uint8_t type = 0, length = 0;
  std::uint16_t version = 0;
  static constexpr auto layout = little_endian(field("ComponentType", &PathComponent::type),
                                               field("LengthofComponentIdentifier", &PathComponent::length),
                                               field("ComponentFileVersionNumber", &PathComponent::version));
};

}  // namespace operculum::udf
