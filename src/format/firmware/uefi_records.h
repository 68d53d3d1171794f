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
enum FileType : std::uint8_t { raw_file = 0x01, padding = 0xF0 };

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
