#include "format/filesystem/hfs_packed.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "codec/block.h"
#include "io/block_content.h"

namespace operculum::hfs {
namespace {

constexpr std::uint32_t kMark = 0x636D7066;
constexpr std::uint64_t kBlock = 65536, kLargest = std::uint64_t{1} << 40;

enum Type : std::uint32_t { kStoredKept = 1, kZlibKept = 3, kZlibFork = 4, kStoredMarked = 9 };

/// A block that did not shrink is stored behind one byte whose lower half is all ones.
void unpack(ByteView packed, ByteSpan out) {
  if (packed.empty()) throw Malformed("a packed block is empty");
  bool plain = (packed[0] & 15) == 15;
  std::size_t count = plain ? decode_block(BlockCodec::stored, packed.subspan(1), out) : decode_block(BlockCodec::zlib, packed, out);
  if (count < out.size()) throw Malformed(fmt::format("a packed block gives {} bytes, {} are expected", count, out.size()));
}

/// In the resource fork: a big-endian header, then a little-endian table of blocks of 64 KiB.
ContentPtr open_fork(const Packing& packing, const SourcePtr& fork) {
  Bytes head = read_exactly(*fork, 0, 16, "packed resource fork");
  std::uint64_t data = BigFields(head, "packed resource fork").u32(0) + 4;
  std::uint64_t count = load_little<std::uint32_t>(read_exactly(*fork, data, 4, "packed resource fork").data());
  if (count != (packing.size + kBlock - 1) / kBlock) throw Malformed(fmt::format("packed resource fork: {} blocks do not make {} bytes", count, packing.size));
  Bytes table = read_exactly(*fork, data + 4, count * 8, "packed resource fork");
  std::vector<Block> blocks;
  for (std::uint64_t i = 0; i < count; ++i) {
    std::uint64_t at = load_little<std::uint32_t>(table.data() + i * 8), size = load_little<std::uint32_t>(table.data() + i * 8 + 4);
    if (size > 2 * kBlock) throw Malformed(fmt::format("packed resource fork: a block of {} bytes is not possible", size));
    blocks.push_back({i * kBlock, std::min(kBlock, packing.size - i * kBlock), data + at, size, 0});
  }
  return make_block_content(std::move(blocks), [fork](const Block& block, ByteSpan out) {
    unpack(read_exactly(*fork, block.stored_offset, block.stored_size, "packed block"), out);
  });
}

}  // namespace

Packing read_packing(ByteView attribute) {
  LittleFields f(attribute, "packing attribute");
  if (f.u32(0) != kMark) throw Malformed("packing attribute: the mark is missing");
  Packing out;
  out.type = f.u32(4);
  out.size = f.u64(8);
  if (out.size > kLargest) throw Malformed(fmt::format("packing attribute: a size of {} bytes is not possible", out.size));
  out.kept.assign(attribute.begin() + 16, attribute.end());
  return out;
}

ContentPtr open_packed(const Packing& packing, const SourcePtr& fork) {
  switch (packing.type) {
    case kStoredKept:
      return make_content(make_memory_source(packing.kept));
    case kStoredMarked:
      return make_content(make_memory_source(Bytes(packing.kept.begin() + (packing.kept.empty() ? 0 : 1), packing.kept.end())));
    case kZlibKept: {
      if (packing.size > (16 << 20)) throw Malformed("a file packed into an attribute is too large to be one");
      Bytes out(static_cast<std::size_t>(packing.size));
      unpack(packing.kept, out);
      return make_content(make_memory_source(std::move(out)));
    }
    case kZlibFork:
      return open_fork(packing, fork);
    default:
      throw Unsupported(fmt::format("files packed by the file system with kind {}{}", packing.type,
                                    packing.type == 7 || packing.type == 8     ? " (LZVN)"
                                    : packing.type == 11 || packing.type == 12 ? " (LZFSE)"
                                                                               : ""));
  }
}

}  // namespace operculum::hfs
