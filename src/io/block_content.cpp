#include "io/block_content.h"

#include <algorithm>
#include <cstring>

namespace operculum {
namespace {

struct BlockFile {
  std::vector<Block> blocks;
  DecodeInto decode;
};
using BlockFilePtr = std::shared_ptr<const BlockFile>;

class BlockStream final : public Stream {
 public:
  explicit BlockStream(BlockFilePtr file) : file_(std::move(file)) {}

  std::size_t read(ByteSpan out) override {
    if (at_ < buffered_) return hand_out(out);
    if (next_ == file_->blocks.size()) return 0;
    const Block& block = file_->blocks[next_++];
    auto size = static_cast<std::size_t>(block.unpacked_size);
    if (out.size() >= size) {
      file_->decode(block, out.first(size));
      return size == 0 ? read(out) : size;
    }
    if (buffer_.size() < size) buffer_.resize(size);
    at_ = buffered_ = 0;
    file_->decode(block, ByteSpan(buffer_).first(size));
    buffered_ = size;
    return hand_out(out);
  }

  std::uint64_t skip(std::uint64_t count) override {
    std::uint64_t done = std::min<std::uint64_t>(count, buffered_ - at_);
    at_ += static_cast<std::size_t>(done);
    while (next_ < file_->blocks.size() && at_ == buffered_ &&
           file_->blocks[next_].unpacked_size <= count - done)
      done += file_->blocks[next_++].unpacked_size;
    return done < count ? done + Stream::skip(count - done) : done;
  }

  std::uint64_t skip_hole() override {
    std::uint64_t done = 0;
    while (at_ == buffered_ && next_ < file_->blocks.size() && file_->blocks[next_].hole)
      done += file_->blocks[next_++].unpacked_size;
    return done;
  }

 private:
  std::size_t hand_out(ByteSpan out) {
    std::size_t count = std::min(out.size(), buffered_ - at_);
    std::memcpy(out.data(), buffer_.data() + at_, count);
    at_ += count;
    return count;
  }

  BlockFilePtr file_;
  std::size_t next_ = 0;  // block to decode next
  Bytes buffer_;
  std::size_t at_ = 0, buffered_ = 0;
};

class BlockContent final : public Content {
 public:
  explicit BlockContent(BlockFilePtr file) : file_(std::move(file)) {}
  StreamPtr stream() const override { return std::make_unique<BlockStream>(file_); }
  SourcePtr source() const override {
    return std::make_shared<BlockSource>(file_->blocks, [file = file_](const Block& block) {
      Bytes out(static_cast<std::size_t>(block.unpacked_size));
      file->decode(block, out);
      return out;
    });
  }

 private:
  BlockFilePtr file_;
};

}  // namespace

ContentPtr make_block_content(std::vector<Block> blocks, DecodeInto decode) {
  auto file = std::make_shared<BlockFile>();
  file->blocks = std::move(blocks);
  file->decode = std::move(decode);
  return std::make_shared<BlockContent>(std::move(file));
}

}  // namespace operculum
