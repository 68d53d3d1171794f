#include "container/packed_run.h"

#include "base/checksum.h"
#include "base/error.h"
#include "base/numbers.h"
#include "codec/codec.h"

namespace operculum {
namespace {

constexpr std::size_t kZlibHead = 2;  // CMF and FLG (RFC 1950, 2.2)

/// Deflate data and what follows it, out of zlib data; nothing where that needs a dictionary of its own.
SourcePtr without_zlib_head(const SourcePtr& bytes) {
  constexpr Byte kMethodMask = 0x0f, kDeflate = 8, kOwnDictionary = 0x20;
  Bytes head = read_up_to(*bytes, 0, kZlibHead);
  if (head.size() < kZlibHead || (head[0] & kMethodMask) != kDeflate || (head[1] & kOwnDictionary) != 0)
    return nullptr;
  return make_slice(bytes, kZlibHead, bytes->size() - kZlibHead);
}

SourcePtr bytes_for(const PackedRun& run, std::string_view codec) {
  if (run.codec == codec) return run.bytes;
  if (run.codec == "zlib" && codec == "deflate") return without_zlib_head(run.bytes);
  return nullptr;
}

/// Decodes it all; nothing where it does not decode or more than one stream lies there.
std::optional<PackedContent> measured(const SourcePtr& bytes, std::string_view codec) {
  PackedContent out;
  std::optional<std::uint64_t> end;
  CodecOptions options;
  options.member_ended = [&](std::uint64_t packed, std::uint64_t) {
    if (!end) end = packed;
  };
  try {
    StreamPtr stream = open_decoder(codec, make_source_stream(bytes), options);
    Bytes block(256 << 10);
    for (;;) {
      bool ended = end.has_value();
      std::size_t count = stream->read(block);
      if (count == 0) break;
      if (ended) return std::nullopt;
      out.crc32 = crc32(out.crc32, ByteView(block).first(count));
      out.plain_size += count;
    }
  } catch (const LimitExceeded&) {
    throw;
  } catch (const Error&) {
    return std::nullopt;  // whoever decodes it in the container's own way will tell
  }
  out.bytes = end ? make_slice(bytes, 0, *end) : bytes;
  return out;
}

}  // namespace

std::optional<PackedContent> taken_over(const PackedRun& run, std::string_view codec) {
  SourcePtr bytes = bytes_for(run, codec);
  if (!bytes) return std::nullopt;
  if (run.crc32 && run.plain_size && run.codec == codec)
    return PackedContent{bytes, *run.plain_size, *run.crc32};
  return measured(bytes, codec);
}

SourcePtr as_gzip(const PackedContent& deflate) {
  constexpr Byte kUnix = 3;
  Bytes head = {0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, kUnix};
  Bytes trailer(8);
  store_number(trailer.data(), 4, deflate.crc32, std::endian::little);
  store_number(trailer.data() + 4, 4, deflate.plain_size & UINT32_MAX, std::endian::little);
  return make_joined({make_memory_source(std::move(head)), deflate.bytes, make_memory_source(trailer)});
}

}  // namespace operculum
