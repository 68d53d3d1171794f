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

}  // namespace operculum::uefi
