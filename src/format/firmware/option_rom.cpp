// Option ROMs (PCI Firmware Specification 3.3, chapter 5; UEFI specification 2.10, section 14.4.2): images
// one behind another, each with a header that begins 55 AA and points to a PCI data structure ("PCIR"), which
// tells its size in units of 512 bytes, for which device it is, and whether it is the last.
#include <fmt/format.h>

#include "base/error.h"
#include "base/fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/uefi_sections.h"
#include "format/formats.h"

namespace operculum {
namespace {

constexpr std::uint64_t kUnit = 512, kEntryPoint = 3;  // bytes
constexpr std::size_t kHead = 28, kData = 24, kMostImages = 64;
constexpr std::uint32_t kEfiMark = 0x0EF1;

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
  if (raw.size() < kHead || raw[0] != 0x55 || raw[1] != 0xAA) return std::nullopt;
  LittleFields f(raw, "option ROM header", at);
  std::uint16_t data_at = f.u16(24);
  if (data_at < kHead || data_at % 4 != 0) return std::nullopt;
  Bytes data = read_up_to(bytes, at + data_at, kData);
  if (data.size() < kData || !starts_with(data, "PCIR")) return std::nullopt;
  LittleFields d(data, "PCI data structure", at + data_at);
  Image image{at, d.u16(16) * kUnit, d.u16(4), d.u16(6), d.u16(18), d.u8(20), (d.u8(21) & 0x80) != 0};
  if (image.size == 0) return std::nullopt;
  if (image.code == 3 && f.u32(4) == kEfiMark) {
    image.efi_at = f.u16(22);
    image.efi_packed = f.u16(12) == 1;
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
  Bytes head = read_up_to(*bytes, part.at, 8);  // sizes, packed and not
  if (head.size() == 8) part.unpacked = LittleFields(head, "packed EFI program").u32(4);
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
      .open = open_option_rom};
}

}  // namespace operculum
