// The .Z files of the Unix `compress` program: LZW with codes of 9 to 16 bits (the header's low five bits
// give the widest), optional clear code 256. Codes are written in groups of eight; when the width changes,
// the rest of the group is padding. The program that defined the form widens codes once even when 9 bits are
// the widest.
#include <algorithm>

#include "base/error.h"
#include "codec/decoders.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

constexpr unsigned kMinBits = 9;
constexpr unsigned kMaxBits = 16;
constexpr unsigned kClear = 256;
constexpr Byte kBlockMode = 0x80;  // the clear code is in use

class CompressStream final : public Stream {
 public:
  explicit CompressStream(StreamPtr packed)
      : input_(std::move(packed)), prefix_(1 << kMaxBits), suffix_(1 << kMaxBits) {}

  std::size_t read(ByteSpan out) override {
    if (!started_) start();
    std::size_t done = 0;
    while (done < out.size()) {
      if (pending_.empty() && !next_code()) break;
      std::size_t count = std::min(out.size() - done, pending_.size());
      for (std::size_t i = 0; i < count; ++i) {  // pending_ is kept last byte first
        out[done++] = pending_.back();
        pending_.pop_back();
      }
    }
    return done;
  }

 private:
  void start() {
    started_ = true;
    ByteView head = input_.ensure(3);
    if (head.size() < 3 || head[0] != 0x1f || head[1] != 0x9d)
      throw Malformed("compress data: expected the bytes 1f 9d");
    widest_ = head[2] & 0x1f;
    block_mode_ = (head[2] & kBlockMode) != 0;
    if (widest_ < kMinBits || widest_ > kMaxBits)
      throw Malformed("compress data: expected codes of 9 to 16 bits at most");
    input_.consume(3);
    next_free_ = block_mode_ ? kClear + 1 : kClear;
    for (unsigned i = 0; i < 256; ++i) suffix_[i] = static_cast<Byte>(i);
  }

  /// Decodes one code into pending_; false at the end of the input.
  bool next_code() {
    for (;;) {
      if (next_free_ >= (1u << width_) && (width_ < widest_ || width_ == kMinBits)) {
        skip_group();
        ++width_;
      }
      unsigned code = 0;
      if (!read_code(code)) return false;
      if (block_mode_ && code == kClear) {
        skip_group();
        width_ = kMinBits;
        next_free_ = kClear + 1;
        previous_ = kNone;
        continue;
      }
      expand(code);
      return true;
    }
  }

  void expand(unsigned code) {
    if (previous_ == kNone) {
      if (code > 255)
        throw Malformed("compress data: the first code must be a plain byte; the data is damaged");
      first_byte_ = static_cast<Byte>(code);
      pending_.push_back(first_byte_);
      previous_ = code;
      return;
    }
    if (code > next_free_ || (code == next_free_ && next_free_ >= (1u << widest_))) {
      throw Malformed(
          "compress data: a code refers to a string that does not exist yet; the data is damaged");
    }
    unsigned walk = code;
    if (code == next_free_) {
      pending_.push_back(first_byte_);
      walk = previous_;
    }
    while (walk > 255) {
      pending_.push_back(suffix_[walk]);
      walk = prefix_[walk];
    }
    first_byte_ = static_cast<Byte>(walk);
    pending_.push_back(first_byte_);
    if (next_free_ < (1u << widest_)) {
      prefix_[next_free_] = static_cast<std::uint16_t>(previous_);
      suffix_[next_free_] = first_byte_;
      ++next_free_;
    }
    previous_ = code;
  }

  bool read_code(unsigned& code) {
    while (bits_ < width_) {
      ByteView in = input_.view();
      if (in.empty()) return false;  // fewer bits than a code are padding
      buffer_ |= static_cast<std::uint32_t>(in[0]) << bits_;
      input_.consume(1);
      bits_ += 8;
    }
    code = buffer_ & ((1u << width_) - 1);
    buffer_ >>= width_;
    bits_ -= width_;
    group_bits_ += width_;
    if (group_bits_ == 8 * width_) group_bits_ = 0;
    return true;
  }

  void skip_group() {
    unsigned waste = 0;
    while (group_bits_ != 0 && read_code(waste)) {
    }
    group_bits_ = 0;
    buffer_ = 0;
    bits_ = 0;
  }

  static constexpr unsigned kNone = ~0u;

  InputBuffer input_;
  std::vector<std::uint16_t> prefix_;
  Bytes suffix_;
  Bytes pending_;
  bool started_ = false, block_mode_ = false;
  unsigned widest_ = kMaxBits;
  unsigned width_ = kMinBits, next_free_ = 0, previous_ = kNone;
  Byte first_byte_ = 0;
  std::uint32_t buffer_ = 0;
  unsigned bits_ = 0, group_bits_ = 0;
};

}  // namespace

StreamPtr open_compress(StreamPtr packed, const CodecOptions&) {
  return std::make_unique<CompressStream>(std::move(packed));
}

}  // namespace operculum
