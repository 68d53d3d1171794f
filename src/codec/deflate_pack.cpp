// Deflate (RFC 1951), zlib (RFC 1950) and gzip (RFC 1952): zlib for streams, libdeflate where it is asked
// for, which packs whole buffers.
#include <libdeflate.h>
#include <zlib.h>

#include <new>

#include "base/error.h"
#include "codec/pack_stream.h"
#include "codec/packers.h"

namespace operculum {
namespace {

enum class Wrapper { raw, zlib, gzip };

constexpr int kUsualLevel = 6;                      // zlib's own default
constexpr std::uint64_t kMostWhole = 256ull << 20;  // bytes that libdeflate packs in memory

class DeflateStream final : public PackStream {
 public:
  DeflateStream(StreamPtr plain, const PackSettings& settings, Wrapper wrapper)
      : PackStream(std::move(plain)), flg_(wrapper == Wrapper::zlib ? settings.zlib_flg : std::nullopt) {
    int window = wrapper == Wrapper::raw ? -MAX_WBITS : wrapper == Wrapper::zlib ? MAX_WBITS : MAX_WBITS + 16;
    if (deflateInit2(&state_, settings.level.value_or(kUsualLevel), Z_DEFLATED, window, settings.memory_level,
                     settings.strategy) != Z_OK) {
      throw Unsupported("packing with these settings of zlib");
    }
  }
  ~DeflateStream() override { deflateEnd(&state_); }

 private:
  Step pack(ByteView in, bool last, ByteSpan out) override {
    state_.next_in = const_cast<Byte*>(in.data());
    state_.avail_in = static_cast<uInt>(in.size());
    state_.next_out = out.data();
    state_.avail_out = static_cast<uInt>(std::min<std::size_t>(out.size(), 1u << 30));
    std::size_t room = state_.avail_out;
    int result = deflate(&state_, last ? Z_FINISH : Z_NO_FLUSH);
    if (result == Z_STREAM_ERROR) throw std::bad_alloc();
    std::size_t produced = room - state_.avail_out;
    for (std::size_t i = 0; flg_ && i < produced; ++i) {  // the second byte is FLG
      if (made_ + i == 1) out[i] = *flg_;
    }
    made_ += produced;
    return {in.size() - state_.avail_in, produced, result == Z_STREAM_END};
  }

  z_stream state_{};
  std::optional<Byte> flg_;
  std::uint64_t made_ = 0;  // bytes so far
};

/// Packs everything at once when the first byte is wanted.
class WholeStream final : public Stream {
 public:
  WholeStream(StreamPtr plain, int level, Wrapper wrapper)
      : plain_(std::move(plain)), level_(level), wrapper_(wrapper) {}
  std::size_t read(ByteSpan out) override {
    if (plain_) make();
    std::size_t count = std::min(out.size(), packed_.size() - at_);
    std::copy_n(packed_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  void make() {
    Bytes plain = read_all(*plain_, kMostWhole);
    plain_.reset();
    struct Compressor {
      libdeflate_compressor* handle;
      explicit Compressor(int level) : handle(libdeflate_alloc_compressor(level)) {
        if (handle == nullptr) throw Unsupported("packing with these settings of libdeflate");
      }
      Compressor(const Compressor&) = delete;
      Compressor& operator=(const Compressor&) = delete;
      ~Compressor() { libdeflate_free_compressor(handle); }
    } compressor(level_);
    auto run = [&](auto bound, auto compress) {
      packed_.resize(bound(compressor.handle, plain.size()));
      packed_.resize(compress(compressor.handle, plain.data(), plain.size(), packed_.data(), packed_.size()));
    };
    if (wrapper_ == Wrapper::raw) run(libdeflate_deflate_compress_bound, libdeflate_deflate_compress);
    if (wrapper_ == Wrapper::zlib) run(libdeflate_zlib_compress_bound, libdeflate_zlib_compress);
    if (wrapper_ == Wrapper::gzip) run(libdeflate_gzip_compress_bound, libdeflate_gzip_compress);
  }

  StreamPtr plain_;  // null: packed
  int level_;
  Wrapper wrapper_;
  Bytes packed_;
  std::size_t at_ = 0;
};

StreamPtr pack_with(StreamPtr plain, const PackSettings& settings, Wrapper wrapper) {
  if (settings.whole_buffer)
    return std::make_unique<WholeStream>(std::move(plain), settings.level.value_or(kUsualLevel), wrapper);
  return std::make_unique<DeflateStream>(std::move(plain), settings, wrapper);
}

}  // namespace

StreamPtr pack_deflate(StreamPtr plain, const PackSettings& settings) {
  return pack_with(std::move(plain), settings, Wrapper::raw);
}
StreamPtr pack_zlib(StreamPtr plain, const PackSettings& settings) {
  return pack_with(std::move(plain), settings, Wrapper::zlib);
}
StreamPtr pack_gzip(StreamPtr plain, const PackSettings& settings) {
  return pack_with(std::move(plain), settings, Wrapper::gzip);
}

}  // namespace operculum
