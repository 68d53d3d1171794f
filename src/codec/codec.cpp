#include "codec/codec.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "codec/decoders.h"
#include "codec/packers.h"

namespace operculum {
namespace {

StreamPtr open_stored(StreamPtr packed, const CodecOptions&) {
  return packed;
}
StreamPtr pack_stored(StreamPtr plain, const PackSettings&) {
  return plain;
}

constexpr Codec kCodecs[] = {
    {"stored", open_stored, nullptr, pack_stored},
    {"deflate", open_deflate, decode_deflate_whole, pack_deflate},
    {"deflate64", open_deflate64, nullptr, pack_deflate64},
    {"shrink", open_shrink},
    {"reduce-1", open_reduce<1>},
    {"reduce-2", open_reduce<2>},
    {"reduce-3", open_reduce<3>},
    {"reduce-4", open_reduce<4>},
    {"implode", open_implode},  // its flags are given
    {"dcl-implode", open_dcl_implode},
    {"zlib", open_zlib, nullptr, pack_zlib},
    {"gzip", open_gzip, nullptr, pack_gzip},
    {"bzip2", open_bzip2, nullptr, pack_bzip2},
    {"lzma", open_lzma, nullptr, pack_lzma},  // raw; properties given, and made in front
    {"lzma-alone", open_lzma_alone, nullptr, pack_lzma_alone},
    {"xz", open_xz, nullptr, pack_xz},
    {"zstd", open_zstd, decode_zstd_whole, pack_zstd},
    {"lz4", open_lz4, nullptr, pack_lz4},
    {"compress", open_compress, nullptr, pack_compress},
    {"lzo", open_lzo_file},  // blocks with a header in front
    {"brotli", open_brotli},
};

constexpr std::uint64_t kMostEncoded = std::uint64_t{1} << 32;  // bytes of a whole buffer, packed

/// See open_sized_decoder.
class SizedDecoder final : public Stream {
 public:
  SizedDecoder(const Codec& codec, SourcePtr packed, std::uint64_t unpacked_size, CodecOptions options)
      : codec_(codec),
        packed_(std::move(packed)),
        unpacked_size_(unpacked_size),
        options_(std::move(options)) {}

  std::size_t read(ByteSpan out) override {
    if (ended_) return 0;
    if (!stream_ && out.size() >= unpacked_size_ && unpacked_size_ > 0) {
      auto target = out.first(static_cast<std::size_t>(unpacked_size_));
      auto there = packed_->view();
      Bytes copy;
      if (!there) {
        copy = read_up_to(*packed_, 0, packed_->size());
        there = copy;
      }
      if (codec_.whole(*there, target)) {
        ended_ = true;
        return target.size();
      }
    }
    if (!stream_) stream_ = codec_.open(make_source_stream(packed_), options_);
    return stream_->read(out);
  }

 private:
  const Codec& codec_;
  SourcePtr packed_;
  std::uint64_t unpacked_size_;
  CodecOptions options_;
  StreamPtr stream_;
  bool ended_ = false;
};

/// Packed entries above this size, in bytes, are always streamed: it bounds the memory of a whole-buffer
/// decode.
constexpr std::uint64_t kWholeLimit = 4 << 20;

}  // namespace

const Codec* find_codec(std::string_view name) {
  auto found =
      std::find_if(std::begin(kCodecs), std::end(kCodecs), [&](const Codec& c) { return c.name == name; });
  return found == std::end(kCodecs) ? nullptr : found;
}

StreamPtr open_decoder(std::string_view name, StreamPtr packed, const CodecOptions& options) {
  const Codec* codec = find_codec(name);
  if (codec == nullptr) throw Unsupported(fmt::format("codec \"{}\"", name));
  return codec->open(std::move(packed), options);
}

StreamPtr open_sized_decoder(const Codec& codec, SourcePtr packed, std::uint64_t unpacked_size,
                             CodecOptions options) {
  options.unpacked_size = unpacked_size;
  if (codec.whole == nullptr || packed->size() > kWholeLimit) {
    return codec.open(make_source_stream(std::move(packed)), options);
  }
  return std::make_unique<SizedDecoder>(codec, std::move(packed), unpacked_size, std::move(options));
}

StreamPtr open_encoder(std::string_view name, StreamPtr plain, const PackSettings& settings) {
  const Codec* codec = find_codec(name);
  if (codec == nullptr || codec->pack == nullptr)
    throw Unsupported(fmt::format("packing with codec \"{}\"", name));
  return codec->pack(std::move(plain), settings);
}

Bytes encode(std::string_view name, ByteView plain, PackSettings settings) {
  if (!settings.plain_size) settings.plain_size = plain.size();
  SourcePtr source = make_memory_source(Bytes(plain.begin(), plain.end()));
  return read_all(*open_encoder(name, make_source_stream(std::move(source)), settings), kMostEncoded);
}

}  // namespace operculum
