#include "format/package/wim_resource.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/checked.h"
#include "base/error.h"
#include "codec/lzx.h"
#include "codec/xpress.h"
#include "io/chunk_table.h"

namespace operculum::wim {
namespace {

constexpr std::uint32_t kDefaultChunk = 32768, kMostChunk = 64 << 20;
constexpr std::uint64_t kMostChunks = 16 << 20, kMostLookup = 128 << 20;
Resource resource_of(const Byte* bytes) {
  auto record = read_structure<ResourceRecord>(bytes);
  return {.offset = record.offset,
          .stored = record.size(),
          .size = record.original_size,
          .metadata = record.has(is_metadata),
          .packed = record.has(is_packed),
          .solid = record.has(is_solid),
          .unused = record.has(is_free)};
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
  Bytes raw = read_exactly(bytes, 0, kHeaderSize, "disk image archive header");
  auto record = read_structure<HeaderRecord>(raw.data());
  Header header;
  header.flags = record.flags;
  header.chunk = record.chunk == 0 ? kDefaultChunk : record.chunk;
  header.guid.assign(record.guid.begin(), record.guid.end());
  header.part = record.part;
  header.parts = record.parts;
  header.images = record.images;
  header.lookup = resource_of(raw.data() + kLookupAt);
  header.xml = resource_of(raw.data() + kXmlAt);
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
  std::vector<Blob> blobs;
  for (std::size_t at = 0; at + kLookupRowSize <= raw.size(); at += kLookupRowSize) {
    auto row = read_structure<LookupRow>(raw.data() + at + size_on_disk<ResourceRecord>);
    blobs.push_back({resource_of(raw.data() + at), row.part, Bytes(row.hash.begin(), row.hash.end())});
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
  constexpr std::size_t kHead = size_on_disk<SolidHead>, kSize = 4;
  Bytes front = read_exactly(*bytes, resource.offset, kHead, "solid resource header");
  auto [size, chunk, kind] = read_structure<SolidHead>(front.data());
  check_chunk(chunk);
  if (kind > 3) throw Malformed(fmt::format("solid resource: compression of type {}", kind));
  auto decode = decoder_of(static_cast<Packing>(kind), chunk);
  std::uint64_t chunks = size == 0 ? 0 : (size - 1) / chunk + 1;
  if (chunks > kMostChunks || chunks * kSize > resource.stored)
    throw Malformed(fmt::format("solid resource: {} bytes in {} are not possible", size, resource.stored));
  Bytes table = read_exactly(*bytes, resource.offset + kHead, chunks * kSize, "solid chunk table");
  std::vector<Block> blocks;
  std::uint64_t at = resource.offset + kHead + table.size();
  for (std::uint64_t i = 0; i < chunks; ++i) {
    std::uint64_t stored = load_little<std::uint32_t>(table.data() + i * kSize),
                  unpacked = std::min<std::uint64_t>(chunk, size - i * chunk);
    if (stored == 0 || stored > unpacked)
      throw Malformed(fmt::format("solid resource: chunk {} of {} bytes", i + 1, stored));
    blocks.push_back({i * chunk, unpacked, at, stored, 0});
    at += stored;
  }
  return make_chunk_content(bytes, std::move(blocks), std::move(decode));
}

}  // namespace operculum::wim
