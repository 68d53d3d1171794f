#include <bzlib.h>
#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <deque>
#include <thread>

#include "base/error.h"
#include "codec/bzip2_splitter.h"
#include "codec/decoders.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

/// Blocks that are decoded ahead of the reader; each takes 5 MiB. Two more than there are processors, so that
/// none waits while the reader takes a block.
std::size_t blocks_ahead() {
  return std::clamp(std::thread::hardware_concurrency(), 1u, 14u) + 2;
}

/// Decodes blocks side by side and hands them out in order. A stream of one block needs no thread.
class Bzip2Stream final : public MemberStream {
 public:
  using MemberStream::MemberStream;

 private:
  void begin_member() override {
    splitter_ = {};
    member_at_ = fed_;
    sum_ = 0;
  }

  Step decode(ByteView in, ByteSpan out) override {
    bool no_more = splitter_.ended() || splitter_.fault() != Bzip2Splitter::Fault::none || in.empty();
    if (in.empty() && !splitter_.ended() && !cut_) {
      cut_ = true;
      if (auto bits = splitter_.take_rest()) add(std::move(*bits));  // it may be whole
    }
    if (!blocks_.empty() && (no_more || blocks_.size() > blocks_ahead())) return {0, read_front(out), false};
    if (splitter_.ended()) {
      if (splitter_.checksum() != sum_) fail_at(fed_, "the checksum at the end does not fit its blocks");
      return {0, 0, true};
    }
    tell_fault();
    if (in.empty()) fail_cut("bzip2");
    std::size_t used = splitter_.feed(in);
    fed_ += used;
    if (auto bits = splitter_.take_block()) add(std::move(*bits));
    return {used, 0, false};
  }

  void add(BitRun bits) {
    blocks_.push_back(
        std::make_unique<Bzip2Block>(std::move(bits), splitter_.level(), member_at_ + splitter_.block_at()));
    if (blocks_.size() < 2) return;
    if (blocks_.size() == 2 && !front_read_ && !blocks_.front()->started()) blocks_.front()->start();
    blocks_.back()->start();
  }

  /// The next bytes of the first block; 0 when it has none left and the next one's turn has come.
  std::size_t read_front(ByteSpan out) {
    std::size_t count = blocks_.front()->read(out);
    if (count == 0 && blocks_.front()->damaged() && !front_read_ && join_front())
      count = blocks_.front()->read(out);
    front_read_ = front_read_ || count > 0;
    if (count > 0) return count;
    const Bzip2Block& front = *blocks_.front();
    if (front.damaged() && cut_ && blocks_.size() == 1) fail_cut("bzip2");
    if (front.damaged()) fail_at(front.packed_at(), "the block is damaged");
    sum_ = std::rotl(sum_, 1) ^ front.checksum();
    blocks_.pop_front();
    front_read_ = false;
    return 0;
  }

  /// The mark between the first two blocks may have been there by chance.
  bool join_front() {
    if (blocks_.size() < 2) return false;
    const Bzip2Block& front = *blocks_.front();
    auto whole = std::make_unique<Bzip2Block>(joined(front.bits(), blocks_[1]->bits()), splitter_.level(),
                                              front.packed_at());
    blocks_.pop_front();
    blocks_.front() = std::move(whole);
    return true;
  }

  void tell_fault() const {
    switch (splitter_.fault()) {
      case Bzip2Splitter::Fault::none:
        return;
      case Bzip2Splitter::Fault::header:
        fail_at(fed_, "expected a bzip2 header");
      case Bzip2Splitter::Fault::first_mark:
        fail_at(fed_, "expected the mark of a block or of the end");
      case Bzip2Splitter::Fault::block_too_long:
        fail_at(fed_, "the block is damaged: it goes on longer than a block can");
    }
  }

  [[noreturn]] static void fail_at(std::uint64_t offset, std::string_view reason) {
    throw Malformed(fmt::format("bzip2 data near packed offset {}: {}", offset, reason));
  }

  bool more_members(InputBuffer& input) override { return starts_with(input.ensure(3), "BZh"); }

  Bzip2Splitter splitter_;
  std::deque<std::unique_ptr<Bzip2Block>> blocks_;
  bool cut_ = false;             // the input ended before the stream did
  bool front_read_ = false;      // some of the first block was handed out
  std::uint64_t fed_ = 0;        // packed bytes, of all members
  std::uint64_t member_at_ = 0;  // where this member begins in them
  std::uint32_t sum_ = 0;        // of the blocks' checksums so far
};

}  // namespace

StreamPtr open_bzip2(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<Bzip2Stream>(std::move(packed), options);
}

}  // namespace operculum
