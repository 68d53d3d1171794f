// A dynamic VHD from a raw disk: a copy of the footer, the dynamic header, the block table, the blocks that
// hold anything, and the footer.
#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "format/formats.h"
#include "format/image/image_blocks.h"

namespace operculum {
namespace {

constexpr std::uint64_t kSector = 512, kBlock = 2 << 20;
constexpr std::uint64_t kBitmap =
    kBlock / kSector / 8;  // a bit for each sector, in front of a block: 512 bytes
constexpr std::uint64_t kDynamicAt = 512, kTableAt = kDynamicAt + 1024;
constexpr std::uint64_t kLargest = std::uint64_t{2040} << 30;  // bytes that the format allows

/// "Hard Disk Footer Format".
struct Footer {
  std::array<Byte, 8> cookie{'c', 'o', 'n', 'e', 'c', 't', 'i', 'x'};
  std::uint32_t features = 2, file_format_version = 0x00010000;
  std::uint64_t data_offset = kDynamicAt;
  std::uint32_t time_stamp = 0;
  std::array<Byte, 4> creator_application{'w', 'i', 'n',
                                          ' '};  // then readers take the size, not the geometry
  std::uint32_t creator_version = 0x00010000;
  std::array<Byte, 4> creator_host_os{'W', 'i', '2', 'k'};
  std::uint64_t original_size = 0, current_size = 0;
  std::uint16_t cylinders = 0;
  std::uint8_t heads = 0, sectors = 0;
  std::uint32_t disk_type = 3, checksum = 0;  // dynamic
  std::array<Byte, 16> unique_id{};

  static constexpr auto layout = big_endian(
      field("Cookie", &Footer::cookie), field("Features", &Footer::features),
      field("File Format Version", &Footer::file_format_version), field("Data Offset", &Footer::data_offset),
      field("Time Stamp", &Footer::time_stamp), field("Creator Application", &Footer::creator_application),
      field("Creator Version", &Footer::creator_version), field("Creator Host OS", &Footer::creator_host_os),
      field("Original Size", &Footer::original_size), field("Current Size", &Footer::current_size),
      field("Disk Geometry, cylinders", &Footer::cylinders), field("Disk Geometry, heads", &Footer::heads),
      field("Disk Geometry, sectors", &Footer::sectors), field("Disk Type", &Footer::disk_type),
      field("Checksum", &Footer::checksum), field("Unique Id", &Footer::unique_id));
};

/// "Dynamic Disk Header Format".
struct DynamicHeader {
  std::array<Byte, 8> cookie{'c', 'x', 's', 'p', 'a', 'r', 's', 'e'};
  std::uint64_t data_offset = UINT64_MAX, table_offset = kTableAt;
  std::uint32_t header_version = 0x00010000, max_table_entries = 0, block_size = kBlock, checksum = 0;

  static constexpr auto layout = big_endian(
      field("Cookie", &DynamicHeader::cookie), field("Data Offset", &DynamicHeader::data_offset),
      field("Table Offset", &DynamicHeader::table_offset),
      field("Header Version", &DynamicHeader::header_version),
      field("Max Table Entries", &DynamicHeader::max_table_entries),
      field("Block Size", &DynamicHeader::block_size), field("Checksum", &DynamicHeader::checksum));
};

/// The bytes of a structure of `size`, with its checksum: one's complement of the sum of all others.
template <typename S>
Bytes summed(S structure, std::size_t size) {
  structure.checksum = 0;
  Bytes out;
  append_structure(out, structure);
  std::uint32_t sum = 0;
  for (Byte b : out) sum += b;
  structure.checksum = ~sum;
  write_structure(structure, out.data());
  out.resize(size);
  return out;
}

/// Appendix "CHS Calculation".
void set_geometry(Footer& footer, std::uint64_t total_sectors) {
  std::uint64_t total = std::min<std::uint64_t>(total_sectors, 65535 * 16 * 255), by_heads = 0;
  std::uint64_t sectors = 255, heads = 16;
  if (total >= 65535 * 16 * 63) {
    by_heads = total / sectors;
  } else {
    sectors = 17;
    by_heads = total / sectors;
    heads = std::max<std::uint64_t>((by_heads + 1023) / 1024, 4);
    if (by_heads >= heads * 1024 || heads > 16) {
      sectors = 31;
      heads = 16;
      by_heads = total / sectors;
    }
    if (by_heads >= heads * 1024) {
      sectors = 63;
      heads = 16;
      by_heads = total / sectors;
    }
  }
  footer.cylinders = static_cast<std::uint16_t>(by_heads / heads);
  footer.heads = static_cast<std::uint8_t>(heads);
  footer.sectors = static_cast<std::uint8_t>(sectors);
}

void put32(Bytes& out, std::uint64_t value) {
  for (int shift = 24; shift >= 0; shift -= 8) out.push_back(static_cast<Byte>(value >> shift));
}

}  // namespace

Assembly pack_vhd(const std::vector<NewEntry>& entries, const Writing& writing) {
  SourcePtr disk = single_disk(entries, writing);
  if (disk->size() % kSector != 0 || disk->size() > kLargest || disk->size() == 0)
    throw Unsupported("a VHD of a disk that is no whole number of sectors, or larger than 2040 GiB");
  std::vector<bool> used = blocks_in_use(*disk, kBlock);
  Footer footer;
  footer.original_size = footer.current_size = disk->size();
  set_geometry(footer, disk->size() / kSector);
  DynamicHeader dynamic;
  dynamic.max_table_entries = static_cast<std::uint32_t>(used.size());
  std::uint64_t table_size = (used.size() * 4 + kSector - 1) / kSector * kSector;
  Bytes table;
  std::uint64_t next = kTableAt + table_size;
  for (bool in_use : used) {
    put32(table, in_use ? next / kSector : UINT32_MAX);
    if (in_use) next += kBitmap + kBlock;
  }
  table.resize(static_cast<std::size_t>(table_size), 0xff);
  Sha256 id;  // the same disk gives the same bytes
  id.add(table);
  Bytes digest = from_hex(id.finish_hex()).value_or(Bytes(32));
  std::copy_n(digest.begin(), footer.unique_id.size(), footer.unique_id.begin());
  Bytes footer_bytes = summed(footer, kSector);
  Assembly out;
  out.add(footer_bytes);
  out.add(summed(dynamic, kTableAt - kDynamicAt));
  out.add(std::move(table));
  for (std::size_t i = 0; i < used.size(); ++i) {
    if (!used[i]) continue;
    out.add(Bytes(kBitmap, 0xff));
    add_block(out, disk, i, kBlock);
  }
  out.add(std::move(footer_bytes));
  return out;
}

}  // namespace operculum
