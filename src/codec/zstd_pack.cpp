#include <zstd.h>

#include <algorithm>
#include <memory>
#include <new>

#include "base/error.h"
#include "codec/pack_stream.h"
#include "codec/packers.h"

namespace operculum {
namespace {

constexpr int kUsualLargestWindow = 27;  // 128 MiB: decoders refuse larger ones unless they are asked

class ZstdPackStream final : public PackStream {
 public:
  ZstdPackStream(StreamPtr plain, const PackSettings& settings)
      : PackStream(std::move(plain)), context_(ZSTD_createCCtx(), ZSTD_freeCCtx) {
    if (!context_) throw std::bad_alloc();
    set(ZSTD_c_compressionLevel, settings.level.value_or(ZSTD_CLEVEL_DEFAULT));
    set(ZSTD_c_checksumFlag, settings.checksum ? 1 : 0);
    set(ZSTD_c_contentSizeFlag, settings.states_size ? 1 : 0);
    if (settings.window_log) {
      set(ZSTD_c_windowLog, *settings.window_log);
      if (*settings.window_log > kUsualLargestWindow) set(ZSTD_c_enableLongDistanceMatching, 1);
    }
    // A build of the library without threads refuses; then one thread does it.
    if (settings.threads > 0)
      ZSTD_CCtx_setParameter(context_.get(), ZSTD_c_nbWorkers, static_cast<int>(settings.threads));
    if (settings.plain_size && settings.states_size)
      ZSTD_CCtx_setPledgedSrcSize(context_.get(), *settings.plain_size);
  }

 private:
  void set(ZSTD_cParameter parameter, int value) {
    if (ZSTD_isError(ZSTD_CCtx_setParameter(context_.get(), parameter, value)) != 0)
      throw Unsupported("packing with these settings of zstd");
  }

  Step pack(ByteView in, bool last, ByteSpan out) override {
    ZSTD_inBuffer from{in.data(), in.size(), 0};
    ZSTD_outBuffer to{out.data(), out.size(), 0};
    std::size_t left = ZSTD_compressStream2(context_.get(), &to, &from, last ? ZSTD_e_end : ZSTD_e_continue);
    if (ZSTD_isError(left) != 0)
      throw Malformed(std::string("zstd cannot pack the content: ") + ZSTD_getErrorName(left));
    return {from.pos, to.pos, last && left == 0};
  }

  std::unique_ptr<ZSTD_CCtx, decltype(&ZSTD_freeCCtx)> context_;
};

}  // namespace

StreamPtr pack_zstd(StreamPtr plain, const PackSettings& settings) {
  return std::make_unique<ZstdPackStream>(std::move(plain), settings);
}

}  // namespace operculum
