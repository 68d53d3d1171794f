#include <bzlib.h>

#include "base/error.h"
#include "codec/decoders.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

class Bzip2Stream final : public MemberStream {
 public:
  using MemberStream::MemberStream;
  ~Bzip2Stream() override { end(); }

 private:
  void begin_member() override {
    end();
    state_ = {};
    if (BZ2_bzDecompressInit(&state_, 0, 0) != BZ_OK) throw std::bad_alloc();
    open_ = true;
  }

  Step decode(ByteView in, ByteSpan out) override {
    state_.next_in = reinterpret_cast<char*>(const_cast<Byte*>(in.data()));
    state_.avail_in = static_cast<unsigned>(in.size());
    state_.next_out = reinterpret_cast<char*>(out.data());
    state_.avail_out = static_cast<unsigned>(std::min<std::size_t>(out.size(), 1u << 30));
    unsigned room = state_.avail_out;
    int result = BZ2_bzDecompress(&state_);
    std::size_t produced = room - state_.avail_out;
    if (result == BZ_MEM_ERROR) throw std::bad_alloc();
    if (result < 0 && produced == 0) {
      fail("bzip2", result == BZ_DATA_ERROR_MAGIC ? "expected a bzip2 header" : "the block is damaged");
    }
    if (in.empty() && produced == 0 && result != BZ_STREAM_END) fail_cut("bzip2");
    return {in.size() - state_.avail_in, produced, result == BZ_STREAM_END};
  }

  bool more_members(InputBuffer& input) override { return starts_with(input.ensure(3), "BZh"); }

  void end() {
    if (open_) BZ2_bzDecompressEnd(&state_);
    open_ = false;
  }

  bz_stream state_{};
  bool open_ = false;
};

}  // namespace

StreamPtr open_bzip2(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<Bzip2Stream>(std::move(packed), options);
}

Bytes encode_bzip2(ByteView plain) {
  Bytes out(plain.size() + plain.size() / 100 + 601);  // the bound the library's manual gives
  auto size = static_cast<unsigned>(out.size());
  char nothing = 0;  // the library refuses a null pointer, even with no bytes behind it
  char* from = plain.empty() ? &nothing : reinterpret_cast<char*>(const_cast<Byte*>(plain.data()));
  int result = BZ2_bzBuffToBuffCompress(reinterpret_cast<char*>(out.data()), &size, from,
                                        static_cast<unsigned>(plain.size()), 9, 0, 0);
  if (result != BZ_OK) throw std::bad_alloc();
  out.resize(size);
  return out;
}

}  // namespace operculum
