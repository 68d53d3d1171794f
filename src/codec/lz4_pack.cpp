#include <lz4frame.h>

#include <algorithm>
#include <new>

#include "base/error.h"
#include "codec/lz4_reason.h"
#include "codec/packers.h"

namespace operculum {
namespace {

constexpr std::size_t kStep = 64 * 1024;  // plain bytes given at a time

LZ4F_blockSizeID_t block_id(std::uint64_t block_size) {
  if (block_size == 0) return LZ4F_default;
  if (block_size <= 64 << 10) return LZ4F_max64KB;
  if (block_size <= 256 << 10) return LZ4F_max256KB;
  return block_size <= 1 << 20 ? LZ4F_max1MB : LZ4F_max4MB;
}

/// One frame. The library wants room for what a whole step may give, so that it is kept and handed out.
class Lz4PackStream final : public Stream {
 public:
  Lz4PackStream(StreamPtr plain, const PackSettings& settings) : plain_(std::move(plain)), in_(kStep) {
    if (LZ4F_isError(LZ4F_createCompressionContext(&context_, LZ4F_VERSION)) != 0) throw std::bad_alloc();
    preferences_.compressionLevel = settings.level.value_or(0);
    preferences_.frameInfo.blockSizeID = block_id(settings.block_size);
    preferences_.frameInfo.blockMode = settings.linked_blocks ? LZ4F_blockLinked : LZ4F_blockIndependent;
    preferences_.frameInfo.contentChecksumFlag =
        settings.checksum ? LZ4F_contentChecksumEnabled : LZ4F_noContentChecksum;
    preferences_.frameInfo.blockChecksumFlag =
        settings.block_checksum ? LZ4F_blockChecksumEnabled : LZ4F_noBlockChecksum;
    if (settings.states_size && settings.plain_size)
      preferences_.frameInfo.contentSize = *settings.plain_size;
    out_.resize(std::max<std::size_t>(LZ4F_compressBound(kStep, &preferences_), LZ4F_HEADER_SIZE_MAX));
    put(LZ4F_compressBegin(context_, out_.data(), out_.size(), &preferences_));
  }
  ~Lz4PackStream() override { LZ4F_freeCompressionContext(context_); }
  Lz4PackStream(const Lz4PackStream&) = delete;
  Lz4PackStream& operator=(const Lz4PackStream&) = delete;

  std::size_t read(ByteSpan out) override {
    while (at_ == end_) {
      if (ended_) return 0;
      std::size_t count = read_fully(*plain_, in_);
      if (count > 0) {
        put(LZ4F_compressUpdate(context_, out_.data(), out_.size(), in_.data(), count, nullptr));
      } else {
        put(LZ4F_compressEnd(context_, out_.data(), out_.size(), nullptr));
        ended_ = true;
      }
    }
    std::size_t count = std::min(out.size(), end_ - at_);
    std::copy_n(out_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  void put(std::size_t made) {
    if (LZ4F_isError(made) != 0) throw Malformed("LZ4 cannot pack the content: " + lz4_reason(made));
    at_ = 0;
    end_ = made;
  }

  StreamPtr plain_;
  LZ4F_preferences_t preferences_ = LZ4F_INIT_PREFERENCES;
  LZ4F_cctx* context_ = nullptr;
  Bytes in_, out_;
  std::size_t at_ = 0, end_ = 0;
  bool ended_ = false;
};

}  // namespace

StreamPtr pack_lz4(StreamPtr plain, const PackSettings& settings) {
  return std::make_unique<Lz4PackStream>(std::move(plain), settings);
}

}  // namespace operculum
