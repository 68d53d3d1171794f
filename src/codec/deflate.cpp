// Deflate (RFC 1951), zlib (RFC 1950) and gzip (RFC 1952): zlib for streams, libdeflate for whole buffers.
#include <libdeflate.h>
#include <zlib.h>

#include "base/error.h"
#include "codec/decoders.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

enum class Wrapper { raw, zlib, gzip };

constexpr int window_bits(Wrapper wrapper) {
  return wrapper == Wrapper::raw ? -15 : wrapper == Wrapper::zlib ? 15 : 15 + 16;
}

class InflateStream final : public MemberStream {
 public:
  InflateStream(StreamPtr packed, const CodecOptions& options, Wrapper wrapper)
      : MemberStream(std::move(packed), options), wrapper_(wrapper) {
    if (inflateInit2(&state_, window_bits(wrapper)) != Z_OK) throw std::bad_alloc();
  }
  ~InflateStream() override { inflateEnd(&state_); }

 private:
  void begin_member() override {
    inflateReset(&state_);
    data_ended_ = false;
  }

  Step decode(ByteView in, ByteSpan out) override {
    state_.next_in = const_cast<Byte*>(in.data());
    state_.avail_in = static_cast<uInt>(in.size());
    state_.next_out = out.data();
    state_.avail_out = static_cast<uInt>(std::min<std::size_t>(out.size(), 1u << 30));
    uInt room = state_.avail_out;
    // With Z_BLOCK it stops behind each block, so that it can be told where the last one ends.
    int result = inflate(&state_, wrapper_ == Wrapper::gzip ? Z_BLOCK : Z_NO_FLUSH);
    std::size_t produced = room - state_.avail_out;
    constexpr int kLast = 64, kBehindBlock = 128;
    if ((state_.data_type & kBehindBlock) != 0) data_ended_ = (state_.data_type & kLast) != 0;
    if (result == Z_NEED_DICT) throw Unsupported("zlib data with a preset dictionary");
    if (result == Z_DATA_ERROR && produced == 0) {
      fail(name(), state_.msg != nullptr ? state_.msg : "damaged", in.size() - state_.avail_in);
    }
    if (in.empty() && produced == 0 && result != Z_STREAM_END) {
      if (!data_ended_) fail_cut(name());
      throw CutShort(
          "gzip data: it is all there, but not the checksum and size behind it, so that nothing tells "
          "whether it is right; --keep-damaged keeps it");
    }
    return {in.size() - state_.avail_in, produced, result == Z_STREAM_END};
  }

  bool more_members(InputBuffer& input) override {
    if (wrapper_ != Wrapper::gzip) return false;
    input.skip_zeros();  // tape and block-device padding
    return starts_with(input.ensure(2), "\x1f\x8b");
  }

  std::string_view name() const { return wrapper_ == Wrapper::gzip ? "gzip" : "deflate"; }

  Wrapper wrapper_;
  bool data_ended_ = false;  // of a gzip member: what is missing is its trailer alone
  z_stream state_{};
};

}  // namespace

StreamPtr open_deflate(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<InflateStream>(std::move(packed), options, Wrapper::raw);
}
StreamPtr open_zlib(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<InflateStream>(std::move(packed), options, Wrapper::zlib);
}
StreamPtr open_gzip(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<InflateStream>(std::move(packed), options, Wrapper::gzip);
}

bool decode_deflate_whole(ByteView packed, ByteSpan out) {
  struct Decompressor {
    libdeflate_decompressor* handle = libdeflate_alloc_decompressor();
    ~Decompressor() { libdeflate_free_decompressor(handle); }
  };
  thread_local Decompressor decompressor;
  return decompressor.handle != nullptr &&
         libdeflate_deflate_decompress(decompressor.handle, packed.data(), packed.size(), out.data(),
                                       out.size(), nullptr) == LIBDEFLATE_SUCCESS;
}

}  // namespace operculum
