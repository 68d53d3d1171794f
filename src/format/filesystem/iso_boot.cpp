#include "format/filesystem/iso_boot.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "format/filesystem/iso_records.h"

namespace operculum::iso {
namespace {

constexpr std::size_t kRow = 32;
constexpr std::uint8_t kValidation = 1, kBootable = 0x88, kNotBootable = 0, kHeader = 0x90,
                       kLastHeader = 0x91;

std::string_view platform_name(std::uint8_t platform) {
  switch (platform) {
    case 0:
      return "x86";
    case 1:
      return "powerpc";
    case 2:
      return "mac";
    case 0xEF:
      return "efi";
    default:
      return "other";
  }
}

/// How long an image is: its table counts what is loaded first, which is often only its beginning.
std::uint64_t size_of(const Source& image, std::uint64_t at, std::uint8_t medium, std::uint64_t loaded) {
  static constexpr std::uint64_t kFloppies[] = {0, 1'228'800, 1'474'560, 2'949'120};
  std::uint64_t left = image.size() - std::min(at, image.size());
  medium &= 15;
  if (medium >= 1 && medium <= 3) return std::min(kFloppies[medium], left);
  Bytes head = read_up_to(image, at, 512);
  std::uint64_t size = loaded;
  if (head.size() == 512 && head[510] == 0x55 && head[511] == 0xAA) {
    LittleFields f(head, "boot sector");
    std::uint64_t sectors = f.u16(19) != 0 ? f.u16(19) : f.u32(32), sector = f.u16(11);
    if (medium == 4) {
      size = std::max(size, (std::uint64_t{f.u32(454)} + f.u32(458)) * 512);
    } else if (sector >= 512 && sector <= 4096 && f.u8(16) > 0) {  // a FAT volume
      size = std::max(size, sectors * sector);
    }
  }
  return std::min(size, left);
}

}  // namespace

std::vector<BootImage> read_boot_catalog(const Source& image, std::uint64_t place) {
  std::vector<BootImage> out;
  Bytes catalog = read_up_to(image, place, kSector);
  if (catalog.size() < 2 * kRow || catalog[0] != kValidation || catalog[30] != 0x55 || catalog[31] != 0xAA)
    return out;
  std::uint8_t platform = catalog[1];
  for (std::size_t at = kRow; at + kRow <= catalog.size(); at += kRow) {
    LittleFields f(ByteView(catalog).subspan(at, kRow), "boot catalog", place + at);
    std::uint8_t kind = f.u8(0);
    if (kind == kHeader || kind == kLastHeader) {
      platform = f.u8(1);
    } else if ((kind == kBootable || (kind == kNotBootable && at == kRow)) && f.u32(8) != 0) {
      BootImage one;
      one.at = f.u32(8) * kSector;
      one.size = size_of(image, one.at, f.u8(1), f.u16(6) * std::uint64_t{512});
      one.name = fmt::format("{}-{}.img", out.size() + 1, platform_name(platform));
      out.push_back(std::move(one));
    } else if (kind == kNotBootable) {
      break;
    }
  }
  return out;
}

}  // namespace operculum::iso
