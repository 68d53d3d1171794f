// LZ4 frames through liblz4; legacy frames, which its frame decoder leaves out, from its block decoder.
#include <lz4.h>
#include <lz4frame.h>

#include "base/cursor.h"
#include "base/error.h"
#include "codec/blockwise_stream.h"
#include "codec/decoders.h"
#include "codec/lz4_reason.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

constexpr std::uint32_t kFrameMagic = 0x184D2204;
constexpr std::uint32_t kSkippableMagic = 0x184D2A50;  // the low four bits are free
constexpr std::uint32_t kLegacyMagic = 0x184C2102;

std::uint32_t peek_magic(InputBuffer& input) {
  ByteView head = input.ensure(4);
  return head.size() < 4 ? 0 : Cursor(head, "lz4 frame").u32le();
}

class Lz4FrameStream final : public MemberStream {
 public:
  Lz4FrameStream(StreamPtr packed, const CodecOptions& options) : MemberStream(std::move(packed), options) {
    if (LZ4F_isError(LZ4F_createDecompressionContext(&context_, LZ4F_VERSION))) throw std::bad_alloc();
  }
  ~Lz4FrameStream() override { LZ4F_freeDecompressionContext(context_); }

 private:
  void begin_member() override { LZ4F_resetDecompressionContext(context_); }

  Step decode(ByteView in, ByteSpan out) override {
    std::size_t produced = out.size(), consumed = in.size();
    std::size_t result = LZ4F_decompress(context_, out.data(), &produced, in.data(), &consumed, nullptr);
    if (LZ4F_isError(result)) fail("LZ4", lz4_reason(result));
    if (in.empty() && produced == 0 && result != 0) fail_cut("LZ4");
    return {consumed, produced, result == 0};
  }

  bool more_members(InputBuffer& input) override {
    std::uint32_t magic = peek_magic(input);
    if (magic == kLegacyMagic) throw Unsupported("an LZ4 legacy frame behind a current one");
    return magic == kFrameMagic || (magic & 0xFFFFFFF0) == kSkippableMagic;
  }

  LZ4F_dctx* context_ = nullptr;
};

/// A magic, then blocks of a 4-byte packed size and data; each unpacks to 8 MiB at most. The end of the file
/// ends it.
class Lz4LegacyStream final : public BlockwiseStream {
 public:
  explicit Lz4LegacyStream(StreamPtr packed) : BlockwiseStream(std::move(packed)) {}

 private:
  static constexpr std::size_t kBlockBytes = 8 << 20;

  bool next_block() override {
    if (input_.view().empty()) return false;
    ByteView head = input_.ensure(4);
    if (head.size() < 4) throw CutShort("LZ4 legacy frame: cut short in a block size");
    std::uint32_t size = Cursor(head, "lz4 block").u32le();
    input_.consume(4);
    if (size == kLegacyMagic) return true;  // another frame begins
    if (size > LZ4_COMPRESSBOUND(kBlockBytes))
      throw Malformed("LZ4 legacy frame: a block is larger than 8 MiB can be");
    Bytes packed = take(size, "LZ4 legacy frame: the last block is cut short");
    block_.resize(kBlockBytes);
    int count = LZ4_decompress_safe(reinterpret_cast<const char*>(packed.data()),
                                    reinterpret_cast<char*>(block_.data()), static_cast<int>(packed.size()),
                                    static_cast<int>(block_.size()));
    if (count < 0) throw Malformed("LZ4 legacy frame: a block is damaged");
    block_.resize(static_cast<std::size_t>(count));
    return true;
  }
};

/// Chooses by the first four bytes when the first bytes are asked for.
class Lz4Stream final : public Stream {
 public:
  Lz4Stream(StreamPtr packed, CodecOptions options)
      : packed_(std::move(packed)), options_(std::move(options)) {}
  std::size_t read(ByteSpan out) override {
    if (!chosen_) choose();
    return chosen_->read(out);
  }

 private:
  class Buffered final : public Stream {
   public:
    explicit Buffered(std::unique_ptr<InputBuffer> input) : input_(std::move(input)) {}
    std::size_t read(ByteSpan out) override { return input_->read(out); }

   private:
    std::unique_ptr<InputBuffer> input_;
  };

  void choose() {
    auto input = std::make_unique<InputBuffer>(std::move(packed_));
    bool legacy = peek_magic(*input) == kLegacyMagic;
    auto rest = std::make_unique<Buffered>(std::move(input));
    if (legacy) {
      chosen_ = std::make_unique<Lz4LegacyStream>(std::move(rest));
    } else {
      chosen_ = std::make_unique<Lz4FrameStream>(std::move(rest), options_);
    }
  }

  StreamPtr packed_;
  CodecOptions options_;
  StreamPtr chosen_;
};

}  // namespace

StreamPtr open_lz4(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<Lz4Stream>(std::move(packed), options);
}

}  // namespace operculum
