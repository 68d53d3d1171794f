#include "format/filesystem/iso_content.h"

#include <algorithm>

#include "base/error.h"
#include "codec/block.h"
#include "format/filesystem/iso_records.h"
#include "io/block_content.h"
#include "io/extent_source.h"

namespace operculum::iso {

SourcePtr sparse_file(const SourcePtr& stored, const RockRidge& ridge) {
  if (ridge.table_depth == 0 || ridge.table_depth > 4)
    throw Malformed("Rock Ridge: the depth of a sparse file's tables makes no sense");
  std::vector<Extent> extents;
  std::uint64_t logical = 0, tables = 0;
  auto table = [&](auto&& self, std::uint64_t block, unsigned level) -> void {
    std::uint64_t covered = kSector;
    for (unsigned i = 0; i < level; ++i) covered *= 256;
    if (logical >= *ridge.virtual_size) return;
    if (level == 0) {
      std::uint64_t length = std::min(kSector, *ridge.virtual_size - logical);
      extents.push_back({logical, block * kSector, length});
      logical += length;
      return;
    }
    if (++tables > stored->size() / kSector + 1)
      throw Malformed("Rock Ridge: a sparse file's tables form a loop");
    Bytes raw = read_exactly(*stored, block * kSector, kSector, "Rock Ridge sparse table");
    for (std::size_t at = 0; at < kSector && logical < *ridge.virtual_size; at += 8) {
      std::uint32_t word = load_little<std::uint32_t>(raw.data() + at);
      constexpr std::uint32_t kUsed = 1U << 31;
      if ((word & kUsed) == 0) {
        logical += covered / 256;
      } else {
        self(self, word & ~kUsed, level - 1);
      }
    }
  };
  table(table, 0, ridge.table_depth);
  return make_extent_source(stored, std::move(extents), *ridge.virtual_size);
}

ContentPtr packed_file(const SourcePtr& stored, const RockRidge& ridge) {
  auto head = read_structure<ZisofsHeader>(
      read_exactly(*stored, 0, size_on_disk<ZisofsHeader>, "zisofs header").data());
  std::uint64_t size = head.size, at = std::uint64_t{head.header_size} * 4;
  unsigned bits = head.block_shift;
  if (head.magic != kZisofsMagic || bits < 15 || bits > 17 || size != ridge.unpacked_size)
    throw Malformed("zisofs header: it does not fit the folder record");
  std::uint64_t block = std::uint64_t{1} << bits, count = (size + block - 1) / block;
  Bytes pointers = read_exactly(*stored, at, (count + 1) * 4, "zisofs block pointers");
  std::vector<Block> blocks;
  for (std::uint64_t i = 0; i < count; ++i) {
    std::uint64_t begin = load_little<std::uint32_t>(pointers.data() + i * 4),
                  end = load_little<std::uint32_t>(pointers.data() + i * 4 + 4);
    if (end < begin || end - begin > 2 * block)
      throw Malformed("zisofs: the block pointers are out of order");
    blocks.push_back({i * block, std::min(block, size - i * block), begin, end - begin, 0, end == begin});
  }
  return make_block_content(std::move(blocks), [stored](const Block& one, ByteSpan out) {
    std::fill(out.begin(), out.end(), Byte{0});
    if (one.stored_size == 0) return;
    Bytes packed = read_exactly(*stored, one.stored_offset, one.stored_size, "zisofs block");
    if (decode_block(BlockCodec::zlib, packed, out) < out.size())
      throw Malformed("a zisofs block is shorter than its place");
  });
}

}  // namespace operculum::iso
