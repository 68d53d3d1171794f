#include "codec/quantum.h"

#include <fmt/format.h>

#include "base/error.h"
#include "codec/history.h"
#include "codec/quantum_model.h"
#include "codec/word_bits.h"

namespace operculum {
namespace {

using namespace quantum;

[[noreturn]] void fail(std::string_view what) {
  throw Malformed(fmt::format("Quantum data: {}", what));
}

/// The arithmetic decoder, with 16-bit bounds.
class Coder {
 public:
  explicit Coder(ByteView packed) : packed_(packed) { code_ = take(16); }

  unsigned symbol(Model& model) {
    std::uint32_t range = high_ - low_ + 1, total = model.total();
    std::uint32_t wanted = ((code_ - low_ + 1) * total - 1) / range;
    unsigned index = 0;
    while (index + 1 < model.size() && model[index + 1].count > wanted) ++index;
    unsigned value = model[index].value;
    high_ = low_ + model[index].count * range / total - 1;
    low_ = low_ + model[index + 1].count * range / total;
    model.met(index);
    normalise();
    return value;
  }

  /// Bits that are not modelled.
  std::uint32_t take(unsigned bits) {
    std::uint32_t value = 0;
    while (bits-- > 0) value = value << 1 | next_bit();
    return value;
  }

  bool overrun() const { return at_ > packed_.size() * 8 + 32; }

 private:
  void normalise() {
    for (;;) {
      if (((low_ ^ high_) & 0x8000) != 0) {
        if ((low_ & 0x4000) == 0 || (high_ & 0x4000) != 0) return;
        // The bounds straddle the middle: the second bit is taken out.
        code_ ^= 0x4000;
        low_ &= 0x3FFF;
        high_ |= 0x4000;
      }
      low_ = low_ << 1 & 0xFFFF;
      high_ = (high_ << 1 | 1) & 0xFFFF;
      code_ = (code_ << 1 | next_bit()) & 0xFFFF;
    }
  }

  std::uint32_t next_bit() {
    std::size_t byte = at_ / 8;
    std::uint32_t bit = byte < packed_.size() ? packed_[byte] >> (7 - at_ % 8) & 1u : 0;
    ++at_;
    return bit;
  }

  ByteView packed_;
  std::size_t at_ = 0;  // in bits
  std::uint32_t low_ = 0, high_ = 0xFFFF, code_ = 0;
};

}  // namespace

struct QuantumDecoder::State {
  explicit State(unsigned window_bits)
      : models(window_bits), history(std::size_t{1} << window_bits, kFrame) {}

  Models models;
  History history;
};

QuantumDecoder::QuantumDecoder(unsigned window_bits) {
  if (window_bits < 10 || window_bits > 21)
    fail(fmt::format("a window of 2^{} bytes is not possible", window_bits));
  state_ = std::make_unique<State>(window_bits);
}

QuantumDecoder::~QuantumDecoder() = default;

ByteView QuantumDecoder::decode_frame(ByteView packed, std::size_t size) {
  if (size > kFrame) fail(fmt::format("a frame of {} bytes", size));
  State& s = *state_;
  Byte* const first = s.history.room(size);
  const Byte* begin = s.history.begin();
  Byte* out = first;
  Byte* const end = out + size;
  Coder coder(packed);
  while (out < end) {
    unsigned selector = coder.symbol(s.models.selector);
    if (selector < kLiteralModels) {
      *out++ = static_cast<Byte>(coder.symbol(s.models.literals[selector]));
    } else {
      unsigned kind = selector - kLiteralModels;
      std::size_t length = 3 + kind;
      if (kind == 2) {
        unsigned step = coder.symbol(s.models.lengths);
        length += kLengthSteps.base[step] + coder.take(kLengthSteps.extra[step]);
      }
      unsigned slot = coder.symbol(s.models.distances[kind]);
      std::size_t distance = kDistances.base[slot] + coder.take(kDistances.extra[slot]) + 1;
      if (distance > static_cast<std::size_t>(out - begin) || distance > s.history.window())
        fail("a copy from before the first byte");
      if (length > static_cast<std::size_t>(end - out)) fail("a copy runs beyond its frame");
      copy_back(out, distance, length, end);
      out += length;
    }
    if (coder.overrun()) fail("the data ends too early; it is cut short");
  }
  s.history.filled(size);
  return {first, size};
}

}  // namespace operculum
