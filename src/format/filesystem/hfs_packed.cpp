#include "format/filesystem/hfs_packed.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/structure_fields.h"
#include "codec/block.h"
#include "codec/lzfse.h"
#include "codec/lzvn.h"
#include "format/filesystem/hfs_records.h"
#include "io/block_content.h"

namespace operculum::hfs {
namespace {

constexpr std::uint32_t kPackingMark = 0x636D7066;
constexpr std::uint64_t kBlock = 65536, kLargest = std::uint64_t{1} << 40;

enum class Where { attribute, fork };
using Unpack = std::size_t (*)(ByteView packed, ByteSpan out);

std::size_t stored(ByteView packed, ByteSpan out) {
  return decode_block(BlockCodec::stored, packed, out);
}
std::size_t zlib(ByteView packed, ByteSpan out) {
  return decode_block(BlockCodec::zlib, packed, out);
}
std::size_t lzvn(ByteView packed, ByteSpan out) {
  return decode_lzvn(packed, out);
}

/// The kinds of packing by number. A block that did not shrink is stored behind a mark of one byte: for zlib
/// one whose lower half is all ones.
struct Kind {
  std::uint32_t type;
  Where where;
  std::string_view method;
  Unpack unpack;
  Byte mark, mark_mask;
};
constexpr Kind kKinds[] = {
    {1, Where::attribute, "stored", stored, 0, 0},
    {3, Where::attribute, "zlib", zlib, 0x0F, 0x0F},
    {4, Where::fork, "zlib", zlib, 0x0F, 0x0F},
    {7, Where::attribute, "lzvn", lzvn, 0x06, 0xFF},
    {8, Where::fork, "lzvn", lzvn, 0x06, 0xFF},
    {9, Where::attribute, "stored", stored, 0xCC, 0xFF},
    {10, Where::fork, "stored", stored, 0xCC, 0xFF},
    {11, Where::attribute, "lzfse", decode_lzfse, 0xFF, 0xFF},
    {12, Where::fork, "lzfse", decode_lzfse, 0xFF, 0xFF},
};

const Kind* kind_of(std::uint32_t type) {
  auto found =
      std::find_if(std::begin(kKinds), std::end(kKinds), [&](const Kind& one) { return one.type == type; });
  return found == std::end(kKinds) ? nullptr : found;
}

void unpack(const Kind& kind, ByteView packed, ByteSpan out) {
  bool plain = kind.mark_mask != 0 && !packed.empty() && (packed[0] & kind.mark_mask) == kind.mark &&
               packed.size() == out.size() + 1;
  std::size_t count = plain ? stored(packed.subspan(1), out) : kind.unpack(packed, out);
  if (count < out.size())
    throw Malformed(fmt::format("a packed block gives {} bytes, {} are expected", count, out.size()));
}

std::vector<Block> blocks_of(
    const Packing& packing, std::uint64_t count,
    const std::function<std::pair<std::uint64_t, std::uint64_t>(std::uint64_t)>& place) {
  std::vector<Block> blocks;
  for (std::uint64_t i = 0; i < count; ++i) {
    auto [at, size] = place(i);
    if (size > 2 * kBlock)
      throw Malformed(fmt::format("packed resource fork: a block of {} bytes is not possible", size));
    blocks.push_back({i * kBlock, std::min(kBlock, packing.size - i * kBlock), at, size, 0});
  }
  return blocks;
}

/// zlib: a big-endian resource header, then a little-endian table of places and sizes. The others: where each
/// block begins, and where the last one ends, at the front of the fork.
std::vector<Block> read_table(const Packing& packing, const Kind& kind, const Source& fork) {
  std::uint64_t count = (packing.size + kBlock - 1) / kBlock;
  if (kind.unpack != zlib) {
    Bytes table = read_exactly(fork, 0, (count + 1) * 4, "packed resource fork");
    return blocks_of(packing, count, [&](std::uint64_t i) {
      std::uint64_t begin = load_little<std::uint32_t>(table.data() + i * 4),
                    end = load_little<std::uint32_t>(table.data() + i * 4 + 4);
      return std::pair(begin, end - std::min(begin, end));
    });
  }
  Bytes head = read_exactly(fork, 0, size_on_disk<ResourceHeader>, "packed resource fork");
  constexpr std::uint64_t kLengthSize = 4;  // of the resource, in front of it
  std::uint64_t data = read_structure<ResourceHeader>(head.data()).data_at + kLengthSize;
  std::uint64_t stated =
      load_little<std::uint32_t>(read_exactly(fork, data, 4, "packed resource fork").data());
  if (stated != count)
    throw Malformed(
        fmt::format("packed resource fork: {} blocks do not make {} bytes", stated, packing.size));
  constexpr std::size_t row_size = size_on_disk<PackedBlock>;
  Bytes table = read_exactly(fork, data + 4, count * row_size, "packed resource fork");
  return blocks_of(packing, count, [&](std::uint64_t i) {
    auto block = read_structure<PackedBlock>(table.data() + i * row_size);
    return std::pair(data + block.at, std::uint64_t{block.size});
  });
}

}  // namespace

Packing read_packing(ByteView attribute) {
  auto stored = structure_in<PackingAttribute>(attribute, "packing attribute");
  if (stored.magic != kPackingMark) throw Malformed("packing attribute: the mark is missing");
  Packing out;
  out.type = stored.type;
  out.size = stored.size;
  if (out.size > kLargest)
    throw Malformed(fmt::format("packing attribute: a size of {} bytes is not possible", out.size));
  out.kept.assign(attribute.begin() + size_on_disk<PackingAttribute>, attribute.end());
  return out;
}

bool Packing::in_fork() const {
  const Kind* kind = kind_of(type);
  return kind != nullptr && kind->where == Where::fork;
}

std::string_view Packing::method() const {
  const Kind* kind = kind_of(type);
  return kind != nullptr ? kind->method : "packed";
}

ContentPtr open_packed(const Packing& packing, const SourcePtr& fork) {
  const Kind* kind = kind_of(packing.type);
  if (kind == nullptr)
    throw Unsupported(fmt::format("files packed by the file system with kind {}", packing.type));
  if (kind->where == Where::fork) {
    return make_block_content(
        read_table(packing, *kind, *fork), [fork, kind](const Block& block, ByteSpan out) {
          unpack(*kind, read_exactly(*fork, block.stored_offset, block.stored_size, "packed block"), out);
        });
  }
  constexpr std::uint64_t kMostKept = 16 << 20;
  if (packing.size > kMostKept) throw Malformed("a file packed into an attribute is too large to be one");
  Bytes out(static_cast<std::size_t>(packing.size));
  unpack(*kind, packing.kept, out);
  return make_content(make_memory_source(std::move(out)));
}

}  // namespace operculum::hfs
