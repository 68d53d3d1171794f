#include "format/filesystem/fat_boot.h"

#include <algorithm>
#include <bit>

#include "base/text.h"

namespace operculum::fat {

Boot read_boot(ByteView raw) {
  auto record = read_structure<BootRecord>(raw.data());
  bool wide = record.table16 == 0;
  auto more = read_structure<Boot32>(raw.data() + size_on_disk<BootRecord>);
  std::uint64_t table = wide ? more.table32 : record.table16;
  std::uint64_t sectors = record.sectors16 != 0 ? record.sectors16 : record.sectors32;
  bool jump = record.jump[0] == 0xEB || record.jump[0] == 0xE9;
  if (!jump || record.sector < 512 || record.sector > 4096 || !std::has_single_bit(record.sector) ||
      !std::has_single_bit(record.per_cluster) || record.reserved == 0 || record.tables == 0 ||
      record.tables > 4 || (record.media != 0xF0 && record.media < 0xF8) || sectors == 0 || table == 0)
    throw Malformed("FAT boot sector: its numbers are not those of a FAT volume");
  std::uint64_t root = (record.root_rows * kRowSize + record.sector - 1) / record.sector;
  std::uint64_t before = record.reserved + record.tables * table + root;
  if (before >= sectors) throw Malformed("FAT boot sector: nothing is left for files");
  std::uint64_t clusters = (sectors - before) / record.per_cluster;
  Boot b;
  b.sector = record.sector;
  b.tables = record.tables;
  b.media = record.media;
  b.geometry.bits = wide ? 32 : clusters < 4085 ? 12 : 16;
  b.geometry.table_at = std::uint64_t{record.reserved} * b.sector;
  b.geometry.table_size = table * b.sector;
  b.geometry.heap_at = before * b.sector;
  b.geometry.cluster_size = record.per_cluster * b.sector;
  std::uint64_t numbered = b.geometry.table_size * 8 / b.geometry.bits;
  b.geometry.clusters = static_cast<std::uint32_t>(
      std::min({clusters, numbered > 2 ? numbered - 2 : 0, std::uint64_t{0x0FFFFFF0}}));
  b.size = sectors * b.sector;
  b.root_at = (record.reserved + b.tables * table) * b.sector;
  b.root_size = wide ? 0 : record.root_rows * kRowSize;
  if (wide) {
    constexpr std::uint16_t kNotMirrored = 0x80, kTableInUse = 0x0F;
    b.root_cluster = more.root_cluster;
    b.info_at = std::uint64_t{more.info} * b.sector;
    b.mirrored = (more.flags & kNotMirrored) == 0;
    if (!b.mirrored) b.table_in_use = std::min<unsigned>(more.flags & kTableInUse, b.tables - 1);
  }
  auto tail =
      read_structure<BootTail>(raw.data() + size_on_disk<BootRecord> + (wide ? size_on_disk<Boot32> : 0));
  if (tail.mark == 0x29 || tail.mark == 0x28) {
    b.serial = tail.serial;
    if (tail.mark == 0x29) b.label = trim(as_text(tail.label));
  }
  return b;
}

}  // namespace operculum::fat
