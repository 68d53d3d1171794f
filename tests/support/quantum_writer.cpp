#include "support/quantum_writer.h"

#include <algorithm>

#include "codec/quantum_model.h"
#include "support/lz_items.h"

namespace operculum::test {
namespace {

using namespace quantum;

constexpr std::size_t kFrame = 32768;

/// An arithmetic coder with 16-bit bounds, the mirror of the decoder's.
class Encoder {
 public:
  void symbol(Model& model, unsigned value) {
    unsigned index = 0;
    while (model[index].value != value) ++index;
    std::uint32_t range = high_ - low_ + 1, total = model.total();
    high_ = low_ + model[index].count * range / total - 1;
    low_ = low_ + model[index + 1].count * range / total;
    model.met(index);
    for (;;) {
      if (((low_ ^ high_) & 0x8000) == 0) {
        emit(high_ >> 15);
      } else if ((low_ & 0x4000) != 0 && (high_ & 0x4000) == 0) {
        ++pending_;
        low_ &= 0x3FFF;
        high_ |= 0x4000;
      } else {
        return;
      }
      low_ = low_ << 1 & 0xFFFF;
      high_ = (high_ << 1 | 1) & 0xFFFF;
    }
  }

  /// Bits that are not modelled stand where the decoder reads them: 16 bits behind what it has taken in.
  void plain(std::uint32_t value, unsigned bits) {
    for (unsigned i = bits; i-- > 0;) inserts_.push_back({coded(), static_cast<Byte>(value >> i & 1)});
  }

  Bytes finish() {
    ++pending_;
    emit(low_ >> 14 & 1);
    while (bits_.size() < coded()) bits_.push_back(0);
    std::vector<Byte> all;
    std::size_t insert = 0;
    // The decoder begins with 16 bits of code; what is plain at code bit n comes behind code bit n + 16.
    for (std::size_t i = 0; i < bits_.size() + 16; ++i) {
      while (insert < inserts_.size() && inserts_[insert].at + 16 == i) all.push_back(inserts_[insert++].bit);
      all.push_back(i < bits_.size() ? bits_[i] : 0);
    }
    while (insert < inserts_.size()) all.push_back(inserts_[insert++].bit);
    Bytes out((all.size() + 7) / 8);
    for (std::size_t i = 0; i < all.size(); ++i) out[i / 8] |= static_cast<Byte>(all[i] << (7 - i % 8));
    return out;
  }

 private:
  struct Insert {
    std::size_t at;
    Byte bit;
  };
  std::size_t coded() const { return bits_.size() + pending_; }
  void emit(std::uint32_t bit) {
    bits_.push_back(static_cast<Byte>(bit));
    for (; pending_ > 0; --pending_) bits_.push_back(static_cast<Byte>(bit ^ 1));
  }

  std::uint32_t low_ = 0, high_ = 0xFFFF;
  std::size_t pending_ = 0;
  std::vector<Byte> bits_;  // of the code
  std::vector<Insert> inserts_;
};

struct Step {
  unsigned number, extra;
  std::uint32_t low;
};

template <typename Steps>
Step step_of(const Steps& steps, unsigned count, std::uint32_t value) {
  for (unsigned i = count; i-- > 0;) {
    if (value >= steps.base[i]) return {i, steps.extra[i], value - steps.base[i]};
  }
  return {0, 0, 0};
}

}  // namespace

std::vector<Bytes> pack_quantum(ByteView plain, unsigned window_bits) {
  Models models(window_bits);
  std::vector<LzItem> items = find_copies(
      plain, {.window = std::size_t{1} << window_bits, .least = 3, .longest = 259, .frame = kFrame});
  std::vector<Bytes> frames;
  Encoder coder;
  std::size_t done = 0;
  for (LzItem item : items) {
    // Short copies reach less far.
    if (item.length != 0) {
      unsigned kind = item.length == 3 ? 0 : item.length == 4 ? 1 : 2;
      unsigned slots = models.distances[kind].size();
      Step step = step_of(kDistances, slots, static_cast<std::uint32_t>(item.distance - 1));
      if (step.low >> step.extra != 0) {  // too far for so short a copy: literals instead
        for (std::size_t i = 0; i < item.length; ++i) {
          Byte literal = plain[done + i];
          coder.symbol(models.selector, literal / 64u);
          coder.symbol(models.literals[literal / 64], literal);
        }
      } else {
        coder.symbol(models.selector, 4 + kind);
        if (kind == 2) {
          Step length = step_of(kLengthSteps, kLengths, static_cast<std::uint32_t>(item.length - 5));
          coder.symbol(models.lengths, length.number);
          coder.plain(length.low, length.extra);
        }
        coder.symbol(models.distances[kind], step.number);
        coder.plain(step.low, step.extra);
      }
    } else {
      coder.symbol(models.selector, item.literal / 64u);
      coder.symbol(models.literals[item.literal / 64], item.literal);
    }
    done += std::max<std::size_t>(item.length, 1);
    if (done % kFrame == 0 || done == plain.size()) {
      frames.push_back(coder.finish());
      coder = Encoder();
    }
  }
  return frames;
}

}  // namespace operculum::test
