#include "support/xpress_writer.h"

#include <algorithm>
#include <bit>

#include "support/byte_writer.h"
#include "support/lz_items.h"

namespace operculum::test {
namespace {

/// Words and bytes in the order in which the decoder takes them: it reads a word as soon as it has fewer than
/// 16 bits, and bytes from behind the last word it read.
class MixedWriter {
 public:
  MixedWriter() {
    first_ = reserve();
    second_ = reserve();
  }
  void bits(std::uint32_t value, unsigned count) {
    while (count-- > 0) {
      word_ = static_cast<std::uint16_t>(word_ << 1 | (value >> count & 1));
      if (++filled_ == 16) {
        store(first_, word_);
        first_ = second_;
        second_ = SIZE_MAX;
        filled_ = 0;
        word_ = 0;
        turned_ = true;
      }
    }
    // The decoder reads on once fewer than 16 bits are left of two words, which is when a word is used up and
    // more.
    if (turned_ && filled_ > 0) {
      second_ = reserve();
      turned_ = false;
    }
  }
  void raw(ByteView bytes) { out_.insert(out_.end(), bytes.begin(), bytes.end()); }
  Bytes take() {
    if (filled_ > 0) store(first_, static_cast<std::uint16_t>(word_ << (16 - filled_)));
    return std::move(out_);
  }

 private:
  std::size_t reserve() {
    out_.resize(out_.size() + 2);
    return out_.size() - 2;
  }
  void store(std::size_t at, std::uint16_t word) {
    out_[at] = static_cast<Byte>(word & 0xFF);
    out_[at + 1] = static_cast<Byte>(word >> 8);
  }
  Bytes out_;
  std::size_t first_ = 0, second_ = 0;
  std::uint16_t word_ = 0;
  unsigned filled_ = 0;
  bool turned_ = false;
};

unsigned symbol_of(const LzItem& item) {
  if (item.length == 0) return item.literal;
  auto bits = static_cast<unsigned>(std::bit_width(item.distance) - 1);
  return 256 + bits * 16 + static_cast<unsigned>(std::min<std::size_t>(item.length - 3, 15));
}

}  // namespace

Bytes pack_xpress(ByteView plain) {
  std::vector<LzItem> items = find_copies(plain, {.window = 65535, .least = 3, .longest = 40'000});
  std::vector<std::size_t> counts(512);
  for (const LzItem& item : items) ++counts[symbol_of(item)];
  ++counts[256];  // the end of the data
  std::vector<Byte> lengths = code_lengths(counts, 15);
  auto codes = canonical_codes(lengths);
  ByteWriter out;
  for (std::size_t i = 0; i < 512; i += 2) out.u8(lengths[i] | lengths[i + 1] << 4);
  MixedWriter mixed;
  for (const LzItem& item : items) {
    unsigned symbol = symbol_of(item);
    mixed.bits(codes[symbol], lengths[symbol]);
    if (item.length == 0) continue;
    std::size_t length = item.length - 3;
    if (length >= 15) {
      ByteWriter more;
      if (length < 15 + 255) {
        more.u8(length - 15);
      } else {
        more.u8(255).u16(length);
      }
      mixed.raw(more.view());
    }
    unsigned bits = (symbol - 256) / 16;
    mixed.bits(static_cast<std::uint32_t>(item.distance - (std::size_t{1} << bits)), bits);
  }
  mixed.bits(codes[256], lengths[256]);
  return out.bytes(mixed.take()).take();
}

}  // namespace operculum::test
