#include <zstd.h>

#include "base/cursor.h"
#include "base/error.h"
#include "codec/decoders.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

constexpr std::uint32_t kFrameMagic = 0xFD2FB528;      // RFC 8878, 3.1.1
constexpr std::uint32_t kSkippableMagic = 0x184D2A50;  // RFC 8878, 3.1.2; the low four bits are free
constexpr int kWindowLogMax = 30;                      // 1 GiB, as for LZMA

class ZstdStream final : public MemberStream {
 public:
  ZstdStream(StreamPtr packed, const CodecOptions& options)
      : MemberStream(std::move(packed), options), context_(ZSTD_createDCtx()) {
    if (context_ == nullptr) throw std::bad_alloc();
    ZSTD_DCtx_setParameter(context_, ZSTD_d_windowLogMax, kWindowLogMax);
  }
  ~ZstdStream() override { ZSTD_freeDCtx(context_); }

 private:
  void begin_member() override { ZSTD_DCtx_reset(context_, ZSTD_reset_session_only); }

  Step decode(ByteView in, ByteSpan out) override {
    ZSTD_inBuffer from{in.data(), in.size(), 0};
    ZSTD_outBuffer to{out.data(), out.size(), 0};
    std::size_t result = ZSTD_decompressStream(context_, &to, &from);
    if (ZSTD_isError(result)) {
      std::string_view reason = ZSTD_getErrorName(result);
      if (reason.find("too much memory") != std::string_view::npos) {
        throw LimitExceeded(
            "the packed data asks for a window of more than 1 GiB, which no usual packer writes");
      }
      if (reason.find("Dictionary") != std::string_view::npos)
        throw Unsupported("zstd data that needs a dictionary");
      fail("zstd", reason);
    }
    if (in.empty() && to.pos == 0 && result != 0) fail_cut("zstd");
    return {from.pos, to.pos, result == 0};
  }

  bool more_members(InputBuffer& input) override {
    ByteView head = input.ensure(4);
    if (head.size() < 4) return false;
    std::uint32_t magic = Cursor(head, "zstd frame").u32le();
    return magic == kFrameMagic || (magic & 0xFFFFFFF0) == kSkippableMagic;
  }

  ZSTD_DCtx* context_;
};

}  // namespace

StreamPtr open_zstd(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<ZstdStream>(std::move(packed), options);
}

bool decode_zstd_whole(ByteView packed, ByteSpan out) {
  struct Context {
    ZSTD_DCtx* handle = ZSTD_createDCtx();
    ~Context() { ZSTD_freeDCtx(handle); }
  };
  thread_local Context context;
  return ZSTD_decompressDCtx(context.handle, out.data(), out.size(), packed.data(), packed.size()) ==
         out.size();
}

}  // namespace operculum
