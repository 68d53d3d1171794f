// Shrinking (APPNOTE 5.1): LZW with codes of 9 to 13 bits, lowest bit first. Code 256 begins an instruction:
// 1 makes codes longer by a bit, 2 takes every string out of the table that no other one goes on from; their
// codes are given again, the lowest first.
#include <array>

#include "codec/decoders.h"
#include "codec/low_bits.h"

namespace operculum {
namespace {

constexpr unsigned kInstruction = 256, kLongerCodes = 1, kPartialClear = 2;
constexpr unsigned kLeastBits = 9, kMostBits = 13, kCodes = 1u << kMostBits;

class ShrinkStream final : public Stream {
 public:
  ShrinkStream(StreamPtr packed, std::optional<std::uint64_t> size)
      : bits_(std::move(packed), "shrunk"), left_(size.value_or(UINT64_MAX)), size_known_(size.has_value()) {
    parent_.fill(kFree);
    for (unsigned i = 0; i < kInstruction; ++i) {
      parent_[i] = kNone;
      value_[i] = static_cast<Byte>(i);
    }
  }

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size() && left_ > 0) {
      if (pending_.empty() && !next_string()) break;
      for (; !pending_.empty() && done < out.size() && left_ > 0; --left_) {  // kept last byte first
        out[done++] = pending_.back();
        pending_.pop_back();
      }
    }
    return done;
  }

 private:
  static constexpr std::uint16_t kFree = 0xffff, kNone = 0xfffe;  // parents of no string, and of a byte

  bool next_string() {
    for (;;) {
      if (!size_known_ && !bits_.has(width_)) return false;
      unsigned code = bits_.take(width_);
      if (code != kInstruction) {
        expand(code);
        return true;
      }
      unsigned instruction = bits_.take(width_);
      if (instruction == kLongerCodes && width_ < kMostBits) {
        ++width_;
      } else if (instruction == kPartialClear) {
        partial_clear();
      } else {
        bits_.damaged(fmt::format("instruction {}", instruction));
      }
    }
  }

  /// A code that has no string stands for the string before and its first byte; within a string, too, when
  /// the code that it goes on from was cleared.
  void expand(unsigned code) {
    unsigned walk = code;
    while (walk != kNone) {
      if (pending_.size() > kCodes) bits_.damaged("a string that goes round in a circle");
      if (parent_[walk] == kFree) {
        if (previous_ == kNone) bits_.damaged(fmt::format("code {} stands for no string", walk));
        pending_.push_back(first_byte_);
        walk = previous_;
        if (parent_[walk] == kFree) bits_.damaged(fmt::format("code {} stands for no string", walk));
        continue;
      }
      pending_.push_back(value_[walk]);
      walk = parent_[walk];
    }
    first_byte_ = pending_.back();
    if (previous_ != kNone) {
      while (next_free_ < kCodes && parent_[next_free_] != kFree) ++next_free_;
      if (next_free_ < kCodes) {
        parent_[next_free_] = static_cast<std::uint16_t>(previous_);
        value_[next_free_] = first_byte_;
      }
    }
    previous_ = code;
  }

  void partial_clear() {
    std::array<bool, kCodes> goes_on{};
    for (unsigned code = kInstruction + 1; code < kCodes; ++code)
      if (parent_[code] < kCodes) goes_on[parent_[code]] = true;
    for (unsigned code = kInstruction + 1; code < kCodes; ++code)
      if (!goes_on[code]) parent_[code] = kFree;
    next_free_ = kInstruction + 1;
  }

  LowBits bits_;
  std::uint64_t left_;
  bool size_known_;
  std::array<std::uint16_t, kCodes> parent_;
  std::array<Byte, kCodes> value_{};
  Bytes pending_;
  unsigned width_ = kLeastBits, previous_ = kNone, next_free_ = kInstruction + 1;
  Byte first_byte_ = 0;
};

}  // namespace

StreamPtr open_shrink(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<ShrinkStream>(std::move(packed), options.unpacked_size);
}

}  // namespace operculum
