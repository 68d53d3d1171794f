#include "codec/lzw.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "io/input_buffer.h"

namespace operculum {
namespace {

constexpr unsigned kBytes = 256;

class LzwStream final : public Stream {
 public:
  LzwStream(StreamPtr packed, const LzwDialect& dialect, std::optional<std::uint64_t> size)
      : input_(std::move(packed)),
        dialect_(dialect),
        left_(size.value_or(UINT64_MAX)),
        size_known_(size.has_value()),
        prefix_(std::size_t{1} << dialect.most),
        suffix_(std::size_t{1} << dialect.most) {
    for (const auto& code : {dialect.clear, dialect.end})
      if (code) first_free_ = std::max(first_free_, *code + 1);
    for (unsigned i = 0; i < kBytes; ++i) suffix_[i] = static_cast<Byte>(i);
    reset();
  }

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size() && left_ > 0) {
      if (pending_.empty() && !next_string()) break;
      while (!pending_.empty() && done < out.size() && left_ > 0) {  // kept last byte first
        out[done++] = pending_.back();
        pending_.pop_back();
        --left_;
      }
    }
    return done;
  }

 private:
  static constexpr unsigned kNone = ~0u;

  void reset() {
    width_ = dialect_.least;
    next_free_ = first_free_;
    previous_ = kNone;
  }

  /// Puts what the next code stands for into pending_; false at the end of the data.
  bool next_string() {
    for (;;) {
      auto code = next_code();
      if (!code || code == dialect_.end) {
        if (!code && size_known_) throw CutShort("lzw data: the data ends too early; it is cut short");
        return false;
      }
      if (code == dialect_.clear) {
        reset();
        continue;
      }
      expand(*code);
      return true;
    }
  }

  void expand(unsigned code) {
    bool known = code < kBytes || (code >= first_free_ && code < next_free_);
    bool own = code == next_free_ && previous_ != kNone && next_free_ < prefix_.size();
    if (!known && !own)
      throw Malformed(fmt::format(
          "lzw data: code {} stands for a string that does not exist yet; the data is damaged", code));
    unsigned walk = code;
    if (own) {  // the string that this code adds: the one before and its own first byte
      pending_.push_back(first_byte_);
      walk = previous_;
    }
    for (; walk >= kBytes; walk = prefix_[walk]) pending_.push_back(suffix_[walk]);
    first_byte_ = static_cast<Byte>(walk);
    pending_.push_back(first_byte_);
    if (previous_ != kNone && next_free_ < prefix_.size()) {
      prefix_[next_free_] = static_cast<std::uint16_t>(previous_);
      suffix_[next_free_] = first_byte_;
      ++next_free_;
    }
    previous_ = code;
    while (width_ < dialect_.most && next_free_ + (dialect_.early ? 1 : 0) >= (1u << width_)) ++width_;
  }

  std::optional<unsigned> next_code() {
    while (bits_ < width_) {
      ByteView in = input_.view();
      if (in.empty()) return std::nullopt;  // fewer bits than a code are padding
      buffer_ = dialect_.high_first ? buffer_ << 8 | in[0] : buffer_ | std::uint64_t{in[0]} << bits_;
      input_.consume(1);
      bits_ += 8;
    }
    unsigned mask = (1u << width_) - 1, code = 0;
    bits_ -= width_;
    if (dialect_.high_first) {
      code = static_cast<unsigned>(buffer_ >> bits_) & mask;
    } else {
      code = static_cast<unsigned>(buffer_) & mask;
      buffer_ >>= width_;
    }
    return code;
  }

  InputBuffer input_;
  LzwDialect dialect_;
  std::uint64_t left_;
  bool size_known_;
  std::vector<std::uint16_t> prefix_;
  Bytes suffix_, pending_;
  unsigned first_free_ = kBytes, width_ = 0, next_free_ = 0, previous_ = kNone;
  Byte first_byte_ = 0;
  std::uint64_t buffer_ = 0;
  unsigned bits_ = 0;
};

}  // namespace

StreamPtr open_lzw(StreamPtr packed, const LzwDialect& dialect, std::optional<std::uint64_t> size) {
  constexpr unsigned kLeast = 9, kMost = 16;
  if (dialect.least < kLeast || dialect.most > kMost || dialect.least > dialect.most)
    throw Malformed(
        fmt::format("lzw: codes of {} to {} bits; 9 to 16 are known", dialect.least, dialect.most));
  for (const auto& code : {dialect.clear, dialect.end})
    if (code && (*code < kBytes || *code >= 1u << dialect.least))
      throw Malformed(fmt::format("lzw: {} is no code behind those of bytes", *code));
  return std::make_unique<LzwStream>(std::move(packed), dialect, size);
}

}  // namespace operculum
