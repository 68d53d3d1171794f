// Option ROMs (PCI Firmware Specification 3.3, chapter 5; UEFI specification 2.10, section 14.4.2): images
// one behind another, each with a header that begins 55 AA and points to a PCI data structure ("PCIR"), which
// tells its size in units of 512 bytes, for which device it is, and whether it is the last.
#include <fmt/format.h>

#include "base/error.h"
#include "base/structure_fields.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/uefi_records.h"
#include "format/firmware/uefi_sections.h"

namespace operculum {
namespace {

constexpr std::uint64_t kUnit = 512, kEntryPoint = 3;  // bytes
constexpr std::size_t kMostImages = 64;
constexpr std::uint32_t kEfiMark = 0x0EF1;

/// 5.1.1, and the UEFI specification's table 14-17 for what an EFI image has there.
struct RomHeader {
  std::array<Byte, 2> signature{};  ///< 55 AA
  std::uint32_t efi_signature = 0;
  std::uint16_t efi_compression = 0, efi_image_at = 0, data_structure_at = 0;
  static constexpr auto layout =
      little_endian(field("ROM Signature", &RomHeader::signature), from_byte<4>(),
                    field("EFI Signature", &RomHeader::efi_signature), from_byte<12>(),
                    field("Compression Type", &RomHeader::efi_compression), from_byte<22>(),
                    field("Offset to EFI Image", &RomHeader::efi_image_at),
                    field("Pointer to PCI Data Structure", &RomHeader::data_structure_at), from_byte<28>());
};
/// 5.1.2.
struct PciData {
  std::array<Byte, 4> signature{};
  std::uint16_t vendor = 0, device = 0, image_length = 0, revision = 0;
  std::uint8_t code_type = 0, indicator = 0;
  static constexpr auto layout = little_endian(
      field("Signature", &PciData::signature), field("Vendor ID", &PciData::vendor),
      field("Device ID", &PciData::device), from_byte<16>(), field("Image Length", &PciData::image_length),
      field("Revision Level", &PciData::revision), field("Code Type", &PciData::code_type),
      field("Indicator", &PciData::indicator), from_byte<24>());
};
constexpr std::size_t kHead = size_on_disk<RomHeader>, kData = size_on_disk<PciData>;
constexpr std::uint8_t kEfiCode = 3, kLastImage = 0x80;

struct Image {
  std::uint64_t at = 0, size = 0;
  std::uint16_t vendor = 0, device = 0, revision = 0;
  std::uint8_t code = 0;
  bool last = false;
  std::uint64_t efi_at = 0;  ///< of the EFI program in the image; 0: none
  bool efi_packed = false;
};

std::optional<Image> image_at(const Source& bytes, std::uint64_t at) {
  Bytes raw = read_up_to(bytes, at, kHead);
  if (raw.size() < kHead) return std::nullopt;
  auto header = read_structure<RomHeader>(raw.data());
  std::uint16_t data_at = header.data_structure_at;
  if (header.signature != std::array<Byte, 2>{0x55, 0xAA} || data_at < kHead || data_at % 4 != 0)
    return std::nullopt;
  Bytes data = read_up_to(bytes, at + data_at, kData);
  if (data.size() < kData || !starts_with(data, "PCIR")) return std::nullopt;
  auto pci = read_structure<PciData>(data.data());
  Image image{at,
              pci.image_length * kUnit,
              pci.vendor,
              pci.device,
              pci.revision,
              pci.code_type,
              (pci.indicator & kLastImage) != 0};
  if (image.size == 0) return std::nullopt;
  if (image.code == kEfiCode && header.efi_signature == kEfiMark) {
    image.efi_at = header.efi_image_at;
    image.efi_packed = header.efi_compression == 1;
  }
  return image;
}

FirmwarePart efi_program(const SourcePtr& bytes, const Image& image, std::string path, std::string comment,
                         OpenContext& context) {
  FirmwarePart part{.path = std::move(path),
                    .type = "EFI program",
                    .at = image.at + image.efi_at,
                    .size = image.size - image.efi_at,
                    .comment = std::move(comment)};
  if (!image.efi_packed) return part;
  part.method = "efi";
  part.open = [bytes, at = part.at, size = part.size, &context] {
    return make_content(uefi::unpack_standard(bytes, at, size, context.spool, [](const Source& plain) {
      return as_text(read_up_to(plain, 0, 2)) == "MZ";
    }));
  };
  Bytes head = read_up_to(*bytes, part.at, size_on_disk<uefi::StandardPacking>);
  if (head.size() == size_on_disk<uefi::StandardPacking>)
    part.unpacked = read_structure<uefi::StandardPacking>(head.data()).original_size;
  return part;
}

Match recognise_option_rom(Probe& probe) {
  ByteView head = probe.head(kHead);
  if (head.size() < kHead || head[0] != 0x55 || head[1] != 0xAA || !probe.source()) return Match::none;
  return image_at(*probe.source(), 0) ? Match::front : Match::none;
}

ContainerPtr open_option_rom(const Input& input, OpenContext& context) {
  constexpr NamedNumber kCodes[] = {{0, "x86"}, {1, "open firmware"}, {2, "PA-RISC"}, {3, "EFI"}};
  SourcePtr bytes = random_access(*input.content, context.spool);
  Firmware out;
  std::uint64_t at = 0;
  for (std::size_t i = 0; i < kMostImages; ++i) {
    auto image = image_at(*bytes, at);
    if (!image) {
      out.fault(fmt::format("the image that is to follow at offset {} is missing", at));
      break;
    }
    std::string code = name_in(kCodes, image->code, "code");
    std::string name = fmt::format("image-{}-{}", i, part_name(code, "code"));
    std::string what = fmt::format("for device {:04x}:{:04x}, revision {:#x}", image->vendor, image->device,
                                   image->revision);
    if (i == 0)
      out.facts.emplace_back("for", fmt::format("device {:04x}:{:04x}", image->vendor, image->device));
    if (image->efi_at != 0 && image->efi_at < image->size) {
      out.parts.push_back(efi_program(bytes, *image, name + ".efi", what, context));
    } else {
      // From where it is started on: the whole image would be an option ROM again.
      out.parts.push_back({.path = name + ".code",
                           .type = code,
                           .at = at + kEntryPoint,
                           .size = image->size - kEntryPoint,
                           .comment = what});
    }
    at += image->size;
    if (image->last) break;
  }
  add_what_is_behind(*bytes, at, out);
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format option_rom_format() {
  return {
      .id = "option-rom",
      .name = "option ROM",
      .family = "firmware",
      .specification = "PCI Firmware Specification 3.3, chapter 5; UEFI specification 2.10, section 14.4.2",
      .reads = "several images; EFI programs, packed or not",
      .lacks = "",
      .suffixes = {".rom", ".efirom"},
      .recognise = recognise_option_rom,
      .open = open_option_rom,
      .records = {record_at<RomHeader>("header", 0)}};
}

}  // namespace operculum
