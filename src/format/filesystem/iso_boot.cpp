#include "format/filesystem/iso_boot.h"

#include <fmt/format.h>

#include <algorithm>

#include "format/filesystem/fat_records.h"
#include "format/filesystem/iso_record_reader.h"
#include "format/filesystem/iso_records.h"
#include "format/image/partition_table.h"

namespace operculum::iso {
namespace {

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
    auto fat = read_structure<fat::BootRecord>(head.data());
    auto row = read_structure<MbrRow>(head.data() + mbr_rows_at);
    std::uint64_t sectors = fat.sectors16 != 0 ? fat.sectors16 : fat.sectors32;
    if (medium == 4) {
      size = std::max(size, (std::uint64_t{row.start} + row.count) * 512);
    } else if (fat.sector >= 512 && fat.sector <= 4096 && fat.tables > 0) {
      size = std::max(size, sectors * fat.sector);
    }
  }
  return std::min(size, left);
}

}  // namespace

std::vector<BootImage> read_boot_catalog(const Source& image, std::uint64_t place) {
  std::vector<BootImage> out;
  Bytes catalog = read_up_to(image, place, kSector);
  constexpr std::size_t row_size = catalog_row_size;
  if (catalog.size() < 2 * row_size) return out;
  auto first = read_structure<ValidationRow>(catalog.data());
  if (first.header != validation_row || first.key != std::array<Byte, 2>{0x55, 0xAA}) return out;
  std::uint8_t platform = first.platform;
  for (std::size_t at = row_size; at + row_size <= catalog.size(); at += row_size) {
    auto row = read_structure<BootRow>(catalog.data() + at);
    bool may_stand = row.indicator == bootable || (row.indicator == not_bootable && at == row_size);
    if (row.indicator == section_header || row.indicator == last_section_header) {
      platform = row.medium;
    } else if (may_stand && row.load_at != 0) {
      BootImage one;
      one.at = row.load_at * kSector;
      one.size = size_of(image, one.at, row.medium, row.sector_count * std::uint64_t{512});
      one.name = fmt::format("{}-{}.img", out.size() + 1, platform_name(platform));
      out.push_back(std::move(one));
    } else if (row.indicator == not_bootable) {
      break;
    }
  }
  return out;
}

}  // namespace operculum::iso
