// A VHD from a raw disk: dynamic, of the blocks that hold anything, or fixed.
#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "format/image/formats.h"
#include "format/image/image_blocks.h"
#include "format/image/vhd_records.h"

namespace operculum {
namespace {

using namespace vhd;

constexpr std::uint32_t kBlock = 2 << 20;
constexpr std::uint64_t kDynamicAt = kFooterSize, kTableAt = kDynamicAt + kDynamicSize;
constexpr std::uint64_t kLargest = std::uint64_t{2040} << 30;  // bytes that the format allows

/// The bytes of a structure of `size`, with its checksum.
template <typename S>
Bytes summed(S structure, std::size_t size) {
  Bytes out;
  append_structure(out, structure);
  structure.checksum = checksum_of(out, place_of(&S::checksum).at);
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

/// The same disk gives the same id.
void set_id(Footer& footer, ByteView of) {
  Sha256 id;
  id.add(of);
  Bytes digest = from_hex(id.finish_hex()).value_or(Bytes(32));
  std::copy_n(digest.begin(), footer.unique_id.size(), footer.unique_id.begin());
}

Footer footer_for(const Source& disk) {
  Footer footer;
  footer.original_size = footer.current_size = disk.size();
  set_geometry(footer, disk.size() / kSector);
  return footer;
}

Assembly fixed_image(const SourcePtr& disk) {
  Footer footer = footer_for(*disk);
  footer.disk_type = fixed;
  footer.data_offset = UINT64_MAX;
  set_id(footer, read_up_to(*disk, 0, kBlock));
  Assembly out;
  out.add(disk);
  out.add(summed(footer, kFooterSize));
  return out;
}

Assembly dynamic_image(const SourcePtr& disk) {
  std::vector<bool> used = blocks_in_use(*disk, kBlock);
  Footer footer = footer_for(*disk);
  footer.data_offset = kDynamicAt;
  DynamicHeader header;
  header.table_offset = kTableAt;
  header.block_size = kBlock;
  header.max_table_entries = static_cast<std::uint32_t>(used.size());
  std::uint64_t table_size = (used.size() * 4 + kSector - 1) / kSector * kSector;
  Bytes table;
  std::uint64_t next = kTableAt + table_size;
  for (bool in_use : used) {
    append_number(table, 4, in_use ? next / kSector : kUnused, std::endian::big);
    if (in_use) next += bitmap_size(kBlock) + kBlock;
  }
  table.resize(static_cast<std::size_t>(table_size), 0xff);
  set_id(footer, table);
  Bytes footer_bytes = summed(footer, kFooterSize);
  Assembly out;
  out.add(footer_bytes);
  out.add(summed(header, kDynamicSize));
  out.add(std::move(table));
  for (std::size_t i = 0; i < used.size(); ++i) {
    if (!used[i]) continue;
    out.add(Bytes(bitmap_size(kBlock), 0xff));
    add_block(out, disk, i, kBlock);
  }
  out.add(std::move(footer_bytes));
  return out;
}

}  // namespace

/// Dynamic; fixed where the disk is to be stored as it is.
Assembly pack_vhd(const std::vector<NewEntry>& entries, const Writing& writing) {
  SourcePtr disk = single_disk(entries, writing);
  if (disk->size() % kSector != 0 || disk->size() > kLargest || disk->size() == 0)
    throw Unsupported("a VHD of a disk that is no whole number of sectors, or larger than 2040 GiB");
  const std::string& method = writing.choice.method;
  if (!method.empty() && method != "stored")
    throw Unsupported(
        fmt::format("the method \"{}\" in a VHD; \"stored\" makes a fixed one", escape(method)));
  return method.empty() ? dynamic_image(disk) : fixed_image(disk);
}

}  // namespace operculum
