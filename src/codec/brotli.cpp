#include <brotli/decode.h>

#include "base/error.h"
#include "codec/decoders.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

class BrotliStream final : public MemberStream {
 public:
  BrotliStream(StreamPtr packed, const CodecOptions& options) : MemberStream(std::move(packed), options) {}
  ~BrotliStream() override { BrotliDecoderDestroyInstance(state_); }

 private:
  void begin_member() override {
    BrotliDecoderDestroyInstance(state_);
    state_ = BrotliDecoderCreateInstance(nullptr, nullptr, nullptr);
    if (state_ == nullptr) throw std::bad_alloc();
  }

  Step decode(ByteView in, ByteSpan out) override {
    std::size_t in_left = in.size(), out_left = out.size();
    const Byte* from = in.data();
    Byte* to = out.data();
    BrotliDecoderResult result =
        BrotliDecoderDecompressStream(state_, &in_left, &from, &out_left, &to, nullptr);
    std::size_t produced = out.size() - out_left;
    if (result == BROTLI_DECODER_RESULT_ERROR)
      fail("Brotli", BrotliDecoderErrorString(BrotliDecoderGetErrorCode(state_)));
    if (in.empty() && produced == 0 && result == BROTLI_DECODER_RESULT_NEEDS_MORE_INPUT) fail_cut("Brotli");
    return {in.size() - in_left, produced, result == BROTLI_DECODER_RESULT_SUCCESS};
  }

  BrotliDecoderState* state_ = nullptr;
};

}  // namespace

StreamPtr open_brotli(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<BrotliStream>(std::move(packed), options);
}

}  // namespace operculum
