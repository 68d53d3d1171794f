#include "format/package/wim_resource.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/checked.h"
#include "base/error.h"
#include "base/fields.h"
#include "codec/lzx.h"
#include "codec/xpress.h"
#include "io/chunk_table.h"

namespace operculum::wim {
namespace {

constexpr std::uint32_t kDefaultChunk = 32768, kMostChunk = 64 << 20;
constexpr std::uint64_t kMostChunks = 16 << 20, kMostLookup = 128 << 20;
enum ResourceFlag : std::uint8_t { kFree = 1, kMetadata = 2, kPacked = 4, kSolid = 16 };

Resource resource_at(const LittleFields& f, std::size_t at) {
  Resource resource;
  std::uint64_t first = f.u64(at);
  resource.stored = first & 0x00FFFFFFFFFFFFFF;
  auto flags = static_cast<std::uint8_t>(first >> 56);
  resource.offset = f.u64(at + 8);
  resource.size = f.u64(at + 16);
  resource.is_free = (flags & kFree) != 0;
  resource.metadata = (flags & kMetadata) != 0;
  resource.packed = (flags & kPacked) != 0;
  resource.solid = (flags & kSolid) != 0;
  return resource;
}

/// What decodes a chunk that got shorter. Throws Unsupported for LZMS.
std::function<void(ByteView, ByteSpan)> decoder_of(Packing codec, std::uint32_t chunk) {
  switch (codec) {
    case Packing::xpress:
      return decode_xpress;
    case Packing::lzx:
      return [window_bits = static_cast<unsigned>(std::bit_width(chunk) - 1)](ByteView packed, ByteSpan out) {
        decode_lzx_chunk(packed, out, window_bits);
      };
    case Packing::none:
      return [](ByteView packed, ByteSpan out) {
        throw Malformed(
            fmt::format("{} bytes for a chunk of {} that is not packed", packed.size(), out.size()));
      };
    case Packing::lzms:
      break;
  }
  throw Unsupported("resources packed with LZMS");
}

void check_chunk(std::uint32_t chunk) {
  if (chunk < 4096 || chunk > kMostChunk || !std::has_single_bit(chunk))
    throw Malformed(fmt::format("disk image archive: chunks of {} bytes are not possible", chunk));
}

}  // namespace

Header read_header(const Source& bytes) {
  Bytes raw = read_exactly(bytes, 0, kHeader, "disk image archive header");
  LittleFields f(raw, "disk image archive header");
  Header header;
  header.flags = f.u32(16);
  header.chunk = f.u32(20) == 0 ? kDefaultChunk : f.u32(20);
  ByteView guid = f.bytes(24, 16);
  header.guid.assign(guid.begin(), guid.end());
  header.part = f.u16(40);
  header.parts = f.u16(42);
  header.images = f.u32(44);
  header.lookup = resource_at(f, 48);
  header.xml = resource_at(f, 72);
  if ((header.flags & has_compression) != 0) {
    header.codec = (header.flags & with_lzx) != 0      ? Packing::lzx
                   : (header.flags & with_xpress) != 0 ? Packing::xpress
                                                       : Packing::lzms;
    check_chunk(header.chunk);
  }
  return header;
}

std::vector<Blob> read_lookup(const Source& bytes, const Header& header) {
  if (header.lookup.stored > kMostLookup) throw LimitExceeded("a lookup table of more than 128 MiB");
  if (header.lookup.packed) throw Unsupported("packed lookup tables");
  Bytes raw = read_exactly(bytes, header.lookup.offset, header.lookup.stored, "lookup table");
  LittleFields f(raw, "lookup table", header.lookup.offset);
  std::vector<Blob> blobs;
  for (std::size_t at = 0; at + kLookupRow <= raw.size(); at += kLookupRow) {
    Blob blob;
    blob.resource = resource_at(f, at);
    blob.part = f.u16(at + 24);
    ByteView hash = f.bytes(at + 30, kHashSize);
    blob.hash.assign(hash.begin(), hash.end());
    blobs.push_back(std::move(blob));
  }
  return blobs;
}

std::string_view name_of(Packing codec) {
  constexpr std::string_view kNames[] = {"stored", "xpress", "lzx", "lzms"};
  return kNames[static_cast<std::size_t>(codec)];
}

ContentPtr open_resource(const SourcePtr& bytes, const Resource& resource, Packing codec,
                         std::uint32_t chunk) {
  if (resource.offset > bytes->size() || resource.stored > bytes->size() - resource.offset)
    throw CutShort(
        fmt::format("its {} bytes lie behind the end of the file; the file is cut short", resource.stored));
  if (!resource.packed) return make_content(make_slice(bytes, resource.offset, resource.stored));
  return make_chunk_content(bytes, {resource.offset, resource.stored, resource.size, chunk},
                            decoder_of(codec, chunk));
}

ContentPtr open_solid(const SourcePtr& bytes, const Resource& resource) {
  Bytes front = read_exactly(*bytes, resource.offset, 16, "solid resource header");
  LittleFields f(front, "solid resource header", resource.offset);
  std::uint64_t size = f.u64(0);
  std::uint32_t chunk = f.u32(8), kind = f.u32(12);
  check_chunk(chunk);
  if (kind > 3) throw Malformed(fmt::format("solid resource: compression of type {}", kind));
  auto decode = decoder_of(static_cast<Packing>(kind), chunk);
  std::uint64_t chunks = size == 0 ? 0 : (size - 1) / chunk + 1;
  if (chunks > kMostChunks || chunks * 4 > resource.stored)
    throw Malformed(fmt::format("solid resource: {} bytes in {} are not possible", size, resource.stored));
  Bytes table = read_exactly(*bytes, resource.offset + 16, chunks * 4, "solid chunk table");
  LittleFields t(table, "solid chunk table", resource.offset + 16);
  std::vector<Block> blocks;
  std::uint64_t at = resource.offset + 16 + table.size();
  for (std::uint64_t i = 0; i < chunks; ++i) {
    std::uint64_t stored = t.u32(static_cast<std::size_t>(i * 4)),
                  unpacked = std::min<std::uint64_t>(chunk, size - i * chunk);
    if (stored == 0 || stored > unpacked)
      throw Malformed(fmt::format("solid resource: chunk {} of {} bytes", i + 1, stored));
    blocks.push_back({i * chunk, unpacked, at, stored, 0});
    at += stored;
  }
  return make_chunk_content(bytes, std::move(blocks), std::move(decode));
}

}  // namespace operculum::wim
