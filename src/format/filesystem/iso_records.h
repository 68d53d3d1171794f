#pragma once

#include "base/structure.h"

/// The structures of ISO 9660 discs (ECMA-119, 4th edition), of Joliet, El Torito, the system use sharing
/// protocol (SUSP, IEEE P1281), Rock Ridge (RRIP, IEEE P1282) and zisofs, in sectors of 2,048 bytes:
///
///   16 sectors of the system's own | volume descriptors, a sector each | path tables, folders and data
///   anywhere
///
/// Numbers stand there in both byte orders. A folder is a run of records, none of which goes over the end of
/// its sector; behind a record's name lies its system use area, a list of fields.
namespace operculum::iso {

/// 8.1: what each volume descriptor begins with.
enum DescriptorType : std::uint8_t {
  boot_record_descriptor = 0,
  primary_descriptor = 1,
  supplementary_descriptor = 2,
  last_descriptor = 255,
};
/// What each volume descriptor begins with (8.1).
struct DescriptorHead {
  std::uint8_t type = 0;
  std::array<Byte, 5> identifier{};
  std::uint8_t version = 1;
  static constexpr auto layout = little_endian(field("Volume Descriptor Type", &DescriptorHead::type),
                                               field("Standard Identifier", &DescriptorHead::identifier),
                                               field("Volume Descriptor Version", &DescriptorHead::version));
};

/// 9.1: a folder record up to its name. Behind the name a byte of padding where its length is even, then the
/// system use area.
struct FolderRecord {
  std::uint8_t length = 0, attribute_length = 0;
  std::uint32_t extent = 0, data_length = 0;  ///< block, bytes
  std::array<Byte, 7> date{};
  std::uint8_t flags = 0, unit_size = 0, gap_size = 0;
  std::uint16_t volume_number = 1;
  std::uint8_t name_length = 0;
  static constexpr auto layout = little_endian(
      field("Length of Directory Record", &FolderRecord::length),
      field("Extended Attribute Record Length", &FolderRecord::attribute_length),
      both_orders("Location of Extent", &FolderRecord::extent),
      both_orders("Data Length", &FolderRecord::data_length),
      field("Recording Date and Time", &FolderRecord::date), field("File Flags", &FolderRecord::flags),
      field("File Unit Size", &FolderRecord::unit_size),
      field("Interleave Gap Size", &FolderRecord::gap_size),
      both_orders("Volume Sequence Number", &FolderRecord::volume_number),
      field("Length of File Identifier", &FolderRecord::name_length));
};
/// Bits of File Flags (9.1.6).
enum FileFlag : std::uint8_t { folder_flag = 2, goes_on_flag = 0x80 };
constexpr std::size_t longest_record = 254;

/// 8.4 and 8.5: the primary descriptor, and a supplementary one, whose escape sequence tells that its names
/// are Joliet's.
struct VolumeDescriptor {
  std::uint8_t type = 0;
  std::array<Byte, 5> identifier{};
  std::uint8_t version = 1;
  std::array<Byte, 32> system{}, volume{};
  std::uint32_t space_size = 0;  ///< blocks
  std::array<Byte, 32> escape_sequences{};
  std::uint16_t set_size = 1, sequence_number = 1, block_size = 0;
  std::uint32_t path_table_size = 0;
  std::uint32_t path_table = 0, path_table_copy = 0;            ///< sectors
  std::array<Byte, 4> big_path_table{}, big_path_table_copy{};  ///< the same, big-endian
  std::array<Byte, 34> root{};                                  ///< a FolderRecord and its name
  std::array<Byte, 128> volume_set{}, publisher{}, preparer{}, application{};
  std::array<Byte, 111> files{};  ///< names of three files about the volume
  std::array<Byte, 17> created{}, modified{}, expires{}, effective{};
  std::uint8_t structure_version = 1;
  static constexpr auto layout =
      little_endian(field("Volume Descriptor Type", &VolumeDescriptor::type),
                    field("Standard Identifier", &VolumeDescriptor::identifier),
                    field("Volume Descriptor Version", &VolumeDescriptor::version), from_byte<8>(),
                    field("System Identifier", &VolumeDescriptor::system),
                    field("Volume Identifier", &VolumeDescriptor::volume), from_byte<80>(),
                    both_orders("Volume Space Size", &VolumeDescriptor::space_size),
                    field("Escape Sequences", &VolumeDescriptor::escape_sequences),
                    both_orders("Volume Set Size", &VolumeDescriptor::set_size),
                    both_orders("Volume Sequence Number", &VolumeDescriptor::sequence_number),
                    both_orders("Logical Block Size", &VolumeDescriptor::block_size),
                    both_orders("Path Table Size", &VolumeDescriptor::path_table_size),
                    field("Location of Type L Path Table", &VolumeDescriptor::path_table),
                    field("Location of Optional Type L Path Table", &VolumeDescriptor::path_table_copy),
                    field("Location of Type M Path Table", &VolumeDescriptor::big_path_table),
                    field("Location of Optional Type M Path Table", &VolumeDescriptor::big_path_table_copy),
                    field("Directory Record for Root Directory", &VolumeDescriptor::root),
                    field("Volume Set Identifier", &VolumeDescriptor::volume_set),
                    field("Publisher Identifier", &VolumeDescriptor::publisher),
                    field("Data Preparer Identifier", &VolumeDescriptor::preparer),
                    field("Application Identifier", &VolumeDescriptor::application),
                    field("Copyright, Abstract and Bibliographic File Identifiers", &VolumeDescriptor::files),
                    field("Volume Creation Date and Time", &VolumeDescriptor::created),
                    field("Volume Modification Date and Time", &VolumeDescriptor::modified),
                    field("Volume Expiration Date and Time", &VolumeDescriptor::expires),
                    field("Volume Effective Date and Time", &VolumeDescriptor::effective),
                    field("File Structure Version", &VolumeDescriptor::structure_version));
};

/// 9.4: a folder in a path table, by level; its name follows, and a byte of padding where its length is odd.
/// Tables of type M are big-endian.
struct PathRow {
  std::uint8_t name_length = 0, attribute_length = 0;
  std::uint32_t extent = 0;
  std::uint16_t above = 1;  ///< the number of the folder that it is in
  static constexpr auto layout = little_endian(
      field("Length of Directory Identifier", &PathRow::name_length),
      field("Extended Attribute Record Length", &PathRow::attribute_length),
      field("Location of Extent", &PathRow::extent), field("Parent Directory Number", &PathRow::above));
};

/// El Torito 1.0, 2.0: the boot record volume descriptor.
struct BootDescriptor {
  std::array<Byte, 32> system{};
  std::uint32_t catalog = 0;  ///< sector
  static constexpr auto layout =
      little_endian(from_byte<7>(), field("Boot System Identifier", &BootDescriptor::system), from_byte<71>(),
                    field("Boot Catalog", &BootDescriptor::catalog));
};
constexpr std::string_view kElTorito = "EL TORITO SPECIFICATION";

/// El Torito, 2.1: the first row of a boot catalog.
struct ValidationRow {
  std::uint8_t header = 0, platform = 0;
  std::array<Byte, 2> key{};  ///< 55 AA
  static constexpr auto layout = little_endian(field("Header ID", &ValidationRow::header),
                                               field("Platform ID", &ValidationRow::platform),
                                               from_byte<30>(), field("Key bytes", &ValidationRow::key));
};
/// 2.2 and 2.4: an image. A section's header has its platform where this has its medium.
struct BootRow {
  std::uint8_t indicator = 0, medium = 0;
  std::uint16_t sector_count = 0;  ///< of 512 bytes, that are loaded
  std::uint32_t load_at = 0;       ///< sector
  static constexpr auto layout = little_endian(
      field("Boot Indicator", &BootRow::indicator), field("Boot media type", &BootRow::medium),
      from_byte<6>(), field("Sector Count", &BootRow::sector_count), field("Load RBA", &BootRow::load_at));
};
/// What a row of the boot catalogue is, by its first byte.
enum RowKind : std::uint8_t {
  not_bootable = 0,
  validation_row = 1,
  bootable = 0x88,
  section_header = 0x90,
  last_section_header = 0x91,
};
constexpr std::size_t catalog_row_size = 32;

// ---- the system use area

/// SUSP, 4: what each field begins with.
struct SystemUse {
  std::array<Byte, 2> signature{};
  std::uint8_t length = 0, version = 1;
  static constexpr auto layout =
      little_endian(field("SIGNATURE WORD", &SystemUse::signature), field("LENGTH", &SystemUse::length),
                    field("SYSTEM USE ENTRY VERSION", &SystemUse::version));
};
constexpr std::size_t use_head_size = 4;

/// SUSP, 5.1, "CE": the area goes on elsewhere.
struct Continuation {
  std::uint32_t block = 0, offset = 0, length = 0;
  static constexpr auto layout = little_endian(
      from_byte<use_head_size>(), both_orders("BLOCK LOCATION", &Continuation::block),
      both_orders("OFFSET", &Continuation::offset), both_orders("LENGTH", &Continuation::length));
};
/// SUSP, 5.3, "SP": the protocol is in use.
struct SharingProtocol {
  std::array<Byte, 2> check{};
  std::uint8_t skipped = 0;
  static constexpr auto layout =
      little_endian(from_byte<use_head_size>(), field("CHECK BYTES", &SharingProtocol::check),
                    field("LEN_SKP", &SharingProtocol::skipped));
};
constexpr std::array<Byte, 2> kCheckBytes = {0xBE, 0xEF};

/// RRIP, 4.1.1, "PX". The serial number came with version 1.12.
struct PosixAttributes {
  std::uint32_t mode = 0, links = 0, uid = 0, gid = 0;
  static constexpr auto layout =
      little_endian(from_byte<use_head_size>(), both_orders("POSIX File Mode", &PosixAttributes::mode),
                    both_orders("POSIX File Links", &PosixAttributes::links),
                    both_orders("POSIX File User ID", &PosixAttributes::uid),
                    both_orders("POSIX File Group ID", &PosixAttributes::gid));
};
/// The serial number that later versions have behind "PX" (4.1.1).
struct PosixSerial {
  std::uint32_t serial = 0;
  static constexpr auto layout = little_endian(from_byte<size_on_disk<PosixAttributes>>(),
                                               both_orders("POSIX File Serial Number", &PosixSerial::serial));
};
/// 4.1.2, "PN".
struct DeviceNumber {
  std::uint32_t high = 0, low = 0;
  static constexpr auto layout =
      little_endian(from_byte<use_head_size>(), both_orders("Dev_t High", &DeviceNumber::high),
                    both_orders("Dev_t Low", &DeviceNumber::low));
};
/// 4.1.3, "SL", 4.1.4, "NM", and 4.1.6, "TF": flags, and what they say follows.
struct Flagged {
  std::uint8_t flags = 0;
  static constexpr auto layout = little_endian(from_byte<use_head_size>(), field("FLAGS", &Flagged::flags));
};
constexpr std::size_t flagged_size = size_on_disk<Flagged>;
/// Of a link's components, and the first three of a name.
enum ComponentFlag : std::uint8_t { part_goes_on = 1, part_current = 2, part_parent = 4, part_root = 8 };
/// Of times: these in this order, three more, and the form.
enum TimeFlag : std::uint8_t {
  time_creation = 1,
  time_modify = 2,
  time_access = 4,
  time_attributes = 8,
  time_long_form = 0x80
};

/// A part of a link's target, within "SL" (4.1.3.1).
struct Component {
  std::uint8_t flags = 0, length = 0;
  static constexpr auto layout =
      little_endian(field("FLAGS", &Component::flags), field("LEN_CP", &Component::length));
};
/// 4.1.5.1, "CL".
struct ChildLink {
  std::uint32_t place = 0;
  static constexpr auto layout = little_endian(from_byte<use_head_size>(),
                                               both_orders("Location of Child Directory", &ChildLink::place));
};
/// 4.1.7, "SF".
struct SparseFile {
  std::uint32_t high = 0, low = 0;
  std::uint8_t depth = 0;
  static constexpr auto layout = little_endian(
      from_byte<use_head_size>(), both_orders("Virtual File Size High", &SparseFile::high),
      both_orders("Virtual File Size Low", &SparseFile::low), field("Table Depth", &SparseFile::depth));
};
/// zisofs, "ZF".
struct PackedFile {
  std::array<Byte, 2> algorithm{};  ///< "pz"
  std::uint8_t header_size = 0, block_shift = 0;
  std::uint32_t size = 0;
  static constexpr auto layout = little_endian(
      from_byte<use_head_size>(), field("algorithm", &PackedFile::algorithm),
      field("header_size_div4", &PackedFile::header_size), field("log2_block_size", &PackedFile::block_shift),
      both_orders("uncompressed_size", &PackedFile::size));
};

/// In front of a file's data in zisofs; pointers to its blocks follow at header_size * 4.
struct ZisofsHeader {
  std::array<Byte, 8> magic{};
  std::uint32_t size = 0;
  std::uint8_t header_size = 0, block_shift = 0;
  std::array<Byte, 2> reserved{};
  static constexpr auto layout = little_endian(
      field("magic", &ZisofsHeader::magic), field("uncompressed_size", &ZisofsHeader::size),
      field("header_size", &ZisofsHeader::header_size), field("block_size", &ZisofsHeader::block_shift),
      field("reserved", &ZisofsHeader::reserved));
};
constexpr std::array<Byte, 8> kZisofsMagic = {0x37, 0xE4, 0x53, 0x96, 0xC9, 0xDB, 0xD6, 0x07};

}  // namespace operculum::iso
