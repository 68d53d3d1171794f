#include <lzma.h>

#include <algorithm>
#include <thread>

#include "base/error.h"
#include "codec/decoders.h"
#include "codec/member_stream.h"
#include "io/fronted_stream.h"

namespace operculum {
namespace {

constexpr std::uint64_t kMemoryLimit = std::uint64_t{1} << 30;  // for one decoder's window
constexpr std::uint64_t kThreadedMemory = std::uint64_t{512}
                                          << 20;  // beyond it, blocks decode one after another

enum class Kind { alone, xz };

/// The memory that blocks such as the first one of this stream take when one is decoded by each of so many
/// threads (.xz format 3.1: packers that work side by side state sizes there): more would only be held back.
std::uint64_t memory_of_blocks(ByteView stream, unsigned threads) {
  constexpr std::uint64_t kMore = 4 << 20;  // of the decoder itself
  if (stream.size() <= LZMA_STREAM_HEADER_SIZE || stream[LZMA_STREAM_HEADER_SIZE] == 0)
    return kThreadedMemory;
  ByteView header = stream.subspan(LZMA_STREAM_HEADER_SIZE);
  lzma_filter filters[LZMA_FILTERS_MAX + 1];
  lzma_block block{};
  block.version = 1;
  block.filters = filters;
  block.header_size = lzma_block_header_size_decode(header[0]);
  if (block.header_size > header.size() ||
      lzma_block_header_decode(&block, nullptr, header.data()) != LZMA_OK)
    return kThreadedMemory;
  std::uint64_t window = lzma_raw_decoder_memusage(filters), plain = block.uncompressed_size;
  lzma_filters_free(filters, nullptr);
  if (plain == LZMA_VLI_UNKNOWN || plain > kThreadedMemory || window > kThreadedMemory)
    return kThreadedMemory;
  // What comes in is seldom more than half of what comes out.
  return std::min(kThreadedMemory, threads * (window + plain + plain / 2) + kMore);
}

class LzmaStream final : public MemberStream {
 public:
  LzmaStream(StreamPtr packed, const CodecOptions& options, Kind kind)
      : MemberStream(std::move(packed), options), kind_(kind) {}
  ~LzmaStream() override { lzma_end(&state_); }

 private:
  void begin_member() override { begun_ = false; }

  void begin(ByteView in) {
    lzma_ret result = LZMA_OK;
    if (kind_ == Kind::alone) {
      result = lzma_alone_decoder(&state_, kMemoryLimit);
    } else {
      lzma_mt threads{};
      threads.threads = std::max(1u, std::thread::hardware_concurrency());
      threads.memlimit_threading = memory_of_blocks(in, threads.threads);
      threads.memlimit_stop = kMemoryLimit;
      result = lzma_stream_decoder_mt(&state_, &threads);
    }
    if (result != LZMA_OK) throw std::bad_alloc();
    begun_ = true;
  }

  Step decode(ByteView in, ByteSpan out) override {
    if (!begun_) begin(in);
    state_.next_in = in.data();
    state_.avail_in = in.size();
    state_.next_out = out.data();
    state_.avail_out = out.size();
    lzma_ret result = lzma_code(&state_, in.empty() ? LZMA_FINISH : LZMA_RUN);
    std::size_t produced = out.size() - state_.avail_out;
    if (produced == 0) check(result);
    if (in.empty() && produced == 0 && result != LZMA_STREAM_END) {
      if (result == LZMA_BUF_ERROR) fail_cut(name());
    }
    return {in.size() - state_.avail_in, produced, result == LZMA_STREAM_END};
  }

  void check(lzma_ret result) const {
    switch (result) {
      case LZMA_OK:
      case LZMA_STREAM_END:
      case LZMA_BUF_ERROR:
        return;
      case LZMA_MEM_ERROR:
        throw std::bad_alloc();
      case LZMA_MEMLIMIT_ERROR:
        throw LimitExceeded(
            "the packed data asks for a window of more than 1 GiB, which no usual packer writes");
      case LZMA_FORMAT_ERROR:
        fail(name(), "expected a header, found other bytes");
      case LZMA_OPTIONS_ERROR:
        throw Unsupported("an xz filter or LZMA setting this build's liblzma does not know");
      default:
        fail(name(), "the data is damaged");
    }
  }

  bool more_members(InputBuffer& input) override {
    if (kind_ == Kind::alone) return false;
    input.skip_zeros();  // stream padding, .xz format 2.2
    return starts_with(input.ensure(6), std::string_view("\xfd"
                                                         "7zXZ\0",
                                                         6));
  }

  std::string_view name() const { return kind_ == Kind::alone ? "LZMA" : "xz"; }

  Kind kind_;
  bool begun_ = false;  // with the member that is decoded now
  lzma_stream state_ = LZMA_STREAM_INIT;
};

}  // namespace

StreamPtr open_lzma(StreamPtr packed, const CodecOptions& options) {
  if (options.properties.size() != 5)
    throw Malformed("LZMA properties: expected 5 bytes, found another number");
  Bytes header = options.properties;
  std::uint64_t size = options.unpacked_size.value_or(UINT64_MAX);  // all ones: the data has an end mark
  for (int i = 0; i < 8; ++i) header.push_back(static_cast<Byte>(size >> (8 * i)));
  return open_lzma_alone(make_fronted(std::move(header), std::move(packed)), options);
}

StreamPtr open_lzma_alone(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<LzmaStream>(std::move(packed), options, Kind::alone);
}

StreamPtr open_xz(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<LzmaStream>(std::move(packed), options, Kind::xz);
}

}  // namespace operculum
