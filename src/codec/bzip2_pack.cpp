#include <bzlib.h>

#include <algorithm>
#include <new>

#include "codec/pack_stream.h"
#include "codec/packers.h"

namespace operculum {
namespace {

constexpr int kUsualLevel = 9;  // blocks of 900,000 bytes

class Bzip2PackStream final : public PackStream {
 public:
  Bzip2PackStream(StreamPtr plain, const PackSettings& settings) : PackStream(std::move(plain)) {
    if (BZ2_bzCompressInit(&state_, std::clamp(settings.level.value_or(kUsualLevel), 1, 9), 0, 0) != BZ_OK)
      throw std::bad_alloc();
  }
  ~Bzip2PackStream() override { BZ2_bzCompressEnd(&state_); }

 private:
  Step pack(ByteView in, bool last, ByteSpan out) override {
    state_.next_in = reinterpret_cast<char*>(const_cast<Byte*>(in.data()));
    state_.avail_in = static_cast<unsigned>(in.size());
    state_.next_out = reinterpret_cast<char*>(out.data());
    state_.avail_out = static_cast<unsigned>(std::min<std::size_t>(out.size(), 1u << 30));
    std::size_t room = state_.avail_out;
    int result = BZ2_bzCompress(&state_, last ? BZ_FINISH : BZ_RUN);
    if (result < 0) throw std::bad_alloc();
    return {in.size() - state_.avail_in, room - state_.avail_out, result == BZ_STREAM_END};
  }

  bz_stream state_{};
};

}  // namespace

StreamPtr pack_bzip2(StreamPtr plain, const PackSettings& settings) {
  return std::make_unique<Bzip2PackStream>(std::move(plain), settings);
}

}  // namespace operculum
