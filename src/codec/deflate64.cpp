// Deflate64 (APPNOTE 4.4.5, method 9): deflate with a window of 64 KiB, two more distance codes, and a last
// length code with 16 extra bits. No general library decodes it.
#include <algorithm>

#include "base/error.h"
#include "codec/decoders.h"
#include "codec/deflate64_numbers.h"
#include "codec/huffman.h"
#include "codec/member_stream.h"

namespace operculum {
namespace {

using namespace deflate64;

class Deflate64Stream final : public Stream {
 public:
  explicit Deflate64Stream(StreamPtr packed) : input_(std::move(packed)), window_(kWindow) {}

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size()) {
      if (copy_left_ > 0) {
        emit(out, done, window_[(at_ - distance_) % kWindow]);
        --copy_left_;
      } else if (state_ == State::stored) {
        if (stored_left_ == 0) {
          end_block();
        } else {
          emit(out, done, static_cast<Byte>(bits(8)));
          --stored_left_;
        }
      } else if (state_ == State::codes) {
        next_symbol(out, done);
      } else if (state_ == State::header) {
        begin_block();
      } else {
        break;
      }
    }
    return done;
  }

 private:
  enum class State { header, stored, codes, ended };

  void emit(ByteSpan out, std::size_t& done, Byte b) {
    out[done++] = b;
    window_[at_++ % kWindow] = b;
  }

  void refill(unsigned wanted) {
    while (bits_.count() < wanted) {
      ByteView in = input_.view();
      if (in.empty()) return;
      bits_.feed(in[0]);
      input_.consume(1);
    }
  }

  std::uint32_t bits(unsigned count) {
    refill(count);
    if (bits_.count() < count)
      throw CutShort("deflate64 data: the packed data ends too early; it is cut short");
    return bits_.take(count);
  }

  unsigned symbol(const PrefixCode& code) {
    refill(PrefixCode::kMaxBits);
    if (bits_.count() == 0) throw CutShort("deflate64 data: the packed data ends too early; it is cut short");
    return code.decode(bits_);
  }

  void next_symbol(ByteSpan out, std::size_t& done) {
    unsigned literal = symbol(literals_);
    if (literal < kEndOfBlock) {
      emit(out, done, static_cast<Byte>(literal));
    } else if (literal == kEndOfBlock) {
      end_block();
    } else {
      unsigned length_code = literal - kEndOfBlock - 1;
      if (length_code >= kLengthRanges.size())
        throw Malformed("deflate64 data: an invalid length code; the data is damaged");
      copy_left_ = kLengthRanges[length_code].base + bits(kLengthRanges[length_code].extra);
      const Range& range = kDistanceRanges[symbol(distances_)];
      distance_ = range.base + bits(range.extra);
      if (distance_ > at_ || distance_ > kWindow) {
        throw Malformed("deflate64 data: a copy from before the start; the data is damaged");
      }
    }
  }

  void end_block() { state_ = last_ ? State::ended : State::header; }

  void begin_block() {
    last_ = bits(1) != 0;
    switch (bits(2)) {
      case 0:
        begin_stored();
        break;
      case 1:
        begin_fixed();
        break;
      case 2:
        begin_dynamic();
        break;
      default:
        throw Malformed("deflate64 data: an invalid block type; the data is damaged");
    }
  }

  void begin_stored() {
    bits_.drop(bits_.count() % 8);
    stored_left_ = bits(16);
    if ((bits(16) ^ 0xffff) != stored_left_)
      throw Malformed("deflate64 data: a stored block's length is damaged");
    state_ = State::stored;
  }

  void begin_fixed() {
    std::array<Byte, kLiterals> lengths{};
    for (unsigned i = 0; i < lengths.size(); ++i) lengths[i] = i < 144 ? 8 : i < 256 ? 9 : i < 280 ? 7 : 8;
    std::array<Byte, kDistances> fives{};
    fives.fill(5);
    literals_.build(lengths);
    distances_.build(fives);
    state_ = State::codes;
  }

  void begin_dynamic() {
    unsigned literal_count = bits(5) + 257, distance_count = bits(5) + 1, length_count = bits(4) + 4;
    std::array<Byte, 19> code_lengths{};
    for (unsigned i = 0; i < length_count; ++i)
      code_lengths[kCodeLengthOrder[i]] = static_cast<Byte>(bits(3));
    PrefixCode lengths_code;
    lengths_code.build(code_lengths);
    std::array<Byte, kLiterals + kDistances> lengths{};
    unsigned count = literal_count + distance_count;
    for (unsigned i = 0; i < count;) {
      unsigned value = symbol(lengths_code);
      if (value < 16) {
        lengths[i++] = static_cast<Byte>(value);
        continue;
      }
      if (value == 16 && i == 0)
        throw Malformed("deflate64 data: a repeat without a length; the data is damaged");
      Byte repeated = value == 16 ? lengths[i - 1] : Byte{0};
      unsigned times = value == 16 ? 3 + bits(2) : value == 17 ? 3 + bits(3) : 11 + bits(7);
      if (times > count - i) throw Malformed("deflate64 data: too many code lengths; the data is damaged");
      while (times-- > 0) lengths[i++] = repeated;
    }
    literals_.build(std::span(lengths).first(literal_count));
    distances_.build(std::span(lengths).subspan(literal_count, distance_count));
    state_ = State::codes;
  }

  InputBuffer input_;
  BitReader bits_;
  Bytes window_;
  std::uint64_t at_ = 0;  // bytes unpacked so far
  State state_ = State::header;
  bool last_ = false;
  std::uint32_t stored_left_ = 0;
  std::uint64_t copy_left_ = 0, distance_ = 0;
  PrefixCode literals_, distances_;
};

}  // namespace

StreamPtr open_deflate64(StreamPtr packed, const CodecOptions&) {
  return std::make_unique<Deflate64Stream>(std::move(packed));
}

}  // namespace operculum
