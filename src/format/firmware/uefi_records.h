#pragma once

#include "base/structure.h"
#include "format/firmware/uefi_names.h"

/// The headers of firmware volumes and their files, with the names of the UEFI Platform Initialization
/// specification 1.8, volume 3:
///
///   volume header | map of blocks | (extended header) | file | file | ... | free
///   file header | section | section | ...
///
/// Files lie at multiples of 8 bytes, sections at multiples of 4; what is free is erased.
namespace operculum::uefi {

/// EFI_FIRMWARE_VOLUME_HEADER.
struct VolumeHeader {
  Guid FileSystemGuid{};
  std::uint64_t FvLength = 0;
  std::uint32_t Signature = 0, Attributes = 0;
  std::uint16_t HeaderLength = 0, Checksum = 0, ExtHeaderOffset = 0;
  std::uint8_t Reserved = 0, Revision = 0;
  static constexpr auto layout = little_endian(
      from_byte<16>(), field("FileSystemGuid", &VolumeHeader::FileSystemGuid),
      field("FvLength", &VolumeHeader::FvLength), field("Signature", &VolumeHeader::Signature),
      field("Attributes", &VolumeHeader::Attributes), field("HeaderLength", &VolumeHeader::HeaderLength),
      field("Checksum", &VolumeHeader::Checksum), field("ExtHeaderOffset", &VolumeHeader::ExtHeaderOffset),
      field("Reserved", &VolumeHeader::Reserved), field("Revision", &VolumeHeader::Revision));
};
constexpr std::size_t kVolumeHeader = size_on_disk<VolumeHeader>, kLongestHeader = 4096;
constexpr std::uint32_t kSignature = 0x4856465F;  // "_FVH"
constexpr std::uint32_t kErasePolarity = 0x800;

/// EFI_FIRMWARE_VOLUME_EXT_HEADER.
struct ExtHeader {
  Guid FvName{};
  std::uint32_t ExtHeaderSize = 0;
  static constexpr auto layout =
      little_endian(field("FvName", &ExtHeader::FvName), field("ExtHeaderSize", &ExtHeader::ExtHeaderSize));
};

/// EFI_FFS_FILE_HEADER; where its attributes say so, its size follows in 64 bits.
struct FileHeader {
  Guid Name{};
  std::uint8_t header_sum = 0, file_sum = 0, Type = 0, Attributes = 0;
  std::uint32_t Size = 0;
  std::uint8_t State = 0;
  static constexpr auto layout =
      little_endian(field("Name", &FileHeader::Name), field("IntegrityCheck.Header", &FileHeader::header_sum),
                    field("IntegrityCheck.File", &FileHeader::file_sum), field("Type", &FileHeader::Type),
                    field("Attributes", &FileHeader::Attributes), narrow_field<3>("Size", &FileHeader::Size),
                    field("State", &FileHeader::State));
};
constexpr std::size_t kFileHeader = size_on_disk<FileHeader>, kLargeFileHeader = kFileHeader + 8;
constexpr std::uint8_t kLargeFile = 0x01, kHasSum = 0x40;
/// Kinds of files that are told apart.
enum FileType : std::uint8_t { raw_file = 0x01, padding = 0xF0 };

// ---- sections of files

/// EFI_COMMON_SECTION_HEADER; where its size says so, the real one follows.
struct SectionHeader {
  std::uint32_t Size = 0;
  std::uint8_t Type = 0;
  static constexpr std::uint32_t extended = 0xFFFFFF;
  static constexpr auto layout =
      little_endian(narrow_field<3>("Size", &SectionHeader::Size), field("Type", &SectionHeader::Type));
};
/// The size of a section that does not fit into 24 bits.
struct ExtendedSize {
  std::uint32_t Size = 0;
  static constexpr auto layout = little_endian(field("ExtendedSize", &ExtendedSize::Size));
};

/// What EFI standard compression begins with (UEFI specification 2.10, section 19).
struct StandardPacking {
  std::uint32_t packed_size = 0, original_size = 0;
  static constexpr auto layout = little_endian(field("compressed size", &StandardPacking::packed_size),
                                               field("original size", &StandardPacking::original_size));
};

/// EFI_COMPRESSION_SECTION behind the common header.
struct CompressionHead {
  std::uint32_t UncompressedLength = 0;
  std::uint8_t CompressionType = 0;
  static constexpr auto layout =
      little_endian(field("UncompressedLength", &CompressionHead::UncompressedLength),
                    field("CompressionType", &CompressionHead::CompressionType));
};

/// EFI_GUID_DEFINED_SECTION behind the common header.
struct GuidedHead {
  Guid SectionDefinitionGuid{};
  std::uint16_t DataOffset = 0, Attributes = 0;  ///< DataOffset: from the section's begin on
  static constexpr std::uint16_t processing_required = 1;
  static constexpr auto layout = little_endian(
      field("SectionDefinitionGuid", &GuidedHead::SectionDefinitionGuid),
      field("DataOffset", &GuidedHead::DataOffset), field("Attributes", &GuidedHead::Attributes));
};

// ---- variables

/// VARIABLE_STORE_HEADER.
struct StoreHeader {
  Guid Signature{};
  std::uint32_t Size = 0;
  std::uint8_t Format = 0, State = 0;
  static constexpr std::uint8_t formatted = 0x5A;
  static constexpr std::size_t size = 28;  ///< with what is reserved
  static constexpr auto layout =
      little_endian(field("Signature", &StoreHeader::Signature), field("Size", &StoreHeader::Size),
                    field("Format", &StoreHeader::Format), field("State", &StoreHeader::State));
};

/// VARIABLE_HEADER; its name, then its value follow.
struct PlainVariable {
  std::uint16_t StartId = 0;
  std::uint8_t State = 0;
  std::uint32_t Attributes = 0, NameSize = 0, DataSize = 0;
  Guid VendorGuid{};
  static constexpr auto layout = little_endian(
      field("StartId", &PlainVariable::StartId), field("State", &PlainVariable::State), from_byte<4>(),
      field("Attributes", &PlainVariable::Attributes), field("NameSize", &PlainVariable::NameSize),
      field("DataSize", &PlainVariable::DataSize), field("VendorGuid", &PlainVariable::VendorGuid));
};

/// AUTHENTICATED_VARIABLE_HEADER, without its counter, time and key.
struct AuthenticatedVariable {
  std::uint16_t StartId = 0;
  std::uint8_t State = 0;
  std::uint32_t Attributes = 0, NameSize = 0, DataSize = 0;
  Guid VendorGuid{};
  static constexpr auto layout = little_endian(
      field("StartId", &AuthenticatedVariable::StartId), field("State", &AuthenticatedVariable::State),
      from_byte<4>(), field("Attributes", &AuthenticatedVariable::Attributes), from_byte<36>(),
      field("NameSize", &AuthenticatedVariable::NameSize),
      field("DataSize", &AuthenticatedVariable::DataSize),
      field("VendorGuid", &AuthenticatedVariable::VendorGuid));
};

/// EFI_LOAD_OPTION (UEFI specification 2.10, section 3.1.3); a text, a device path and data follow.
struct LoadOption {
  std::uint32_t Attributes = 0;
  std::uint16_t FilePathListLength = 0;
  static constexpr std::uint32_t active = 1;
  static constexpr auto layout = little_endian(field("Attributes", &LoadOption::Attributes),
                                               field("FilePathListLength", &LoadOption::FilePathListLength));
};

// ---- capsules

/// EFI_CAPSULE_HEADER (UEFI specification 2.10, section 8.5.3).
struct CapsuleHeader {
  Guid CapsuleGuid{};
  std::uint32_t HeaderSize = 0, Flags = 0, CapsuleImageSize = 0;
  static constexpr auto layout = little_endian(
      field("CapsuleGuid", &CapsuleHeader::CapsuleGuid), field("HeaderSize", &CapsuleHeader::HeaderSize),
      field("Flags", &CapsuleHeader::Flags), field("CapsuleImageSize", &CapsuleHeader::CapsuleImageSize));
};

/// EFI_FIRMWARE_MANAGEMENT_CAPSULE_HEADER (section 23.3); places of drivers and payloads follow.
struct ManagedCapsule {
  std::uint32_t Version = 0;
  std::uint16_t EmbeddedDriverCount = 0, PayloadItemCount = 0;
  static constexpr auto layout =
      little_endian(field("Version", &ManagedCapsule::Version),
                    field("EmbeddedDriverCount", &ManagedCapsule::EmbeddedDriverCount),
                    field("PayloadItemCount", &ManagedCapsule::PayloadItemCount));
};

/// EFI_FIRMWARE_MANAGEMENT_CAPSULE_IMAGE_HEADER, as of version 1.
struct ManagedPayload {
  std::uint32_t Version = 0;
  Guid UpdateImageTypeId{};
  std::uint8_t UpdateImageIndex = 0;
  std::uint32_t UpdateImageSize = 0, UpdateVendorCodeSize = 0;
  static constexpr auto layout =
      little_endian(field("Version", &ManagedPayload::Version),
                    field("UpdateImageTypeId", &ManagedPayload::UpdateImageTypeId),
                    field("UpdateImageIndex", &ManagedPayload::UpdateImageIndex), from_byte<24>(),
                    field("UpdateImageSize", &ManagedPayload::UpdateImageSize),
                    field("UpdateVendorCodeSize", &ManagedPayload::UpdateVendorCodeSize));
  std::uint64_t size() const { return Version >= 3 ? 48 : Version == 2 ? 40 : 32; }
};

/// In front of the regions of a flash chip (Intel's data sheets, "SPI flash descriptor"), behind 16 bytes.
struct FlashDescriptor {
  std::uint32_t FLVALSIG = 0, FLMAP0 = 0;
  static constexpr auto layout = little_endian(from_byte<16>(), field("FLVALSIG", &FlashDescriptor::FLVALSIG),
                                               field("FLMAP0", &FlashDescriptor::FLMAP0));
  std::size_t region_table() const { return (FLMAP0 >> 16 & 0xFF) << 4; }  ///< FRBA, in units of 16 bytes
};

}  // namespace operculum::uefi
