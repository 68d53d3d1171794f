#include "codec/lzx.h"

#include <fmt/format.h>

#include "codec/history.h"
#include "codec/lzx_numbers.h"
#include "codec/word_bits.h"

namespace operculum {
namespace {

using namespace lzx;

constexpr unsigned kTranslatedFrames = 32768;  // calls are translated in the first GiB only
constexpr std::size_t kUntranslatedTail = 10;
constexpr Byte kCall = 0xE8;
constexpr std::int32_t kChunkTranslation = 12000000;

/// What goes on from block to block and frame to frame.
class Core {
 public:
  /// `short_form`: block sizes of 16 bits with a bit for the usual one.
  Core(unsigned window_bits, bool short_form) : short_form_(short_form) {
    if (window_bits < kLeastWindow || window_bits > kMostWindow)
      throw Malformed(fmt::format("LZX data: a window of 2^{} bytes is not possible", window_bits));
    main_symbols_ = kLiterals + kLengthHeaders * kSlotCounts[window_bits - kLeastWindow];
    window_ = std::size_t{1} << window_bits;
  }

  /// Decodes up to `end`; copies may reach back to `begin`.
  void decode(WordBits& bits, const Byte* begin, Byte* out, Byte* end) {
    while (out < end) {
      if (block_left_ == 0) begin_block(bits);
      auto count = std::min<std::size_t>(block_left_, static_cast<std::size_t>(end - out));
      if (type_ == plain_block) {
        copy_plain(bits, out, count);
        out += count;
        block_left_ -= count;
      } else {
        Byte* done = decode_coded(bits, begin, out, out + count, end);
        auto made = static_cast<std::size_t>(done - out);
        if (made > block_left_) fail("a copy runs beyond its block");
        block_left_ -= made;
        out = done;
      }
      if (bits.overrun()) fail("the data ends too early; it is cut short");
    }
  }

 private:
  [[noreturn]] static void fail(std::string_view what) { throw Malformed(fmt::format("LZX data: {}", what)); }

  void begin_block(WordBits& bits) {
    if (odd_) bits.restart(1);  // the filling byte of an odd block, put off to this frame
    odd_ = false;
    type_ = bits.take(kTypeBits);
    if (!short_form_) {
      block_left_ = bits.take(kSizeBits);
    } else if (bits.take(1) == 1) {
      block_left_ = LzxDecoder::kFrame;
    } else {
      block_left_ = bits.take(window_ > 32768 ? 24 : 16);
    }
    switch (type_) {
      case aligned_block: {
        std::array<Byte, kAlignedSymbols> lengths;
        for (Byte& length : lengths) length = static_cast<Byte>(bits.take(kAlignedBits));
        if (!aligned_.build(lengths)) fail("its code for low distance bits is not possible");
        [[fallthrough]];
      }
      case verbatim_block:
        read_lengths(bits, std::span(main_lengths_).first(kLiterals));
        read_lengths(bits, std::span(main_lengths_).subspan(kLiterals, main_symbols_ - kLiterals));
        if (!main_.build(std::span(main_lengths_).first(main_symbols_)))
          fail("its main code is not possible");
        read_lengths(bits, length_lengths_);
        if (!length_.build(length_lengths_)) fail("its code for lengths is not possible");
        break;
      case plain_block: {
        bits.align(true);
        ByteView raw = bits.rest();
        if (raw.size() < 12) fail("the data ends too early; it is cut short");
        for (std::size_t i = 0; i < 3; ++i) recent_[i] = load_little<std::uint32_t>(raw.data() + i * 4);
        bits.restart(12);
        odd_ = block_left_ % 2 != 0;
        break;
      }
      default:
        fail(fmt::format("blocks of type {} do not exist", type_));
    }
    if (block_left_ == 0) fail("a block of no bytes");
  }

  /// Code lengths are coded themselves, as differences to those of the block before.
  void read_lengths(WordBits& bits, std::span<Byte> lengths) {
    std::array<Byte, kLengthCodeSymbols> own;
    for (Byte& length : own) length = static_cast<Byte>(bits.take(kLengthCodeBits));
    WordCode<kLengthCodeSymbols, 6> code;
    if (!code.build(own)) fail("its code for code lengths is not possible");
    auto next = [&] {
      bits.refill();
      return code.decode(bits);
    };
    auto changed = [](Byte before, unsigned difference) {
      return static_cast<Byte>((before + 17u - difference) % 17);
    };
    for (std::size_t i = 0; i < lengths.size();) {
      unsigned symbol = next();
      if (symbol <= 16) {
        lengths[i] = changed(lengths[i], symbol);
        ++i;
        continue;
      }
      std::size_t run = symbol == 17 ? 4 + bits.take(4) : symbol == 18 ? 20 + bits.take(5) : 4 + bits.take(1);
      Byte value = 0;
      if (symbol == 19) {
        unsigned difference = next();
        if (difference > 16) fail("a run of code lengths within another");
        value = changed(lengths[i], difference);
      }
      run = std::min(run, lengths.size() - i);
      std::fill_n(lengths.begin() + static_cast<std::ptrdiff_t>(i), run, value);
      i += run;
    }
  }

  Byte* decode_coded(WordBits& outer, const Byte* begin, Byte* out, Byte* stop, const Byte* end) {
    WordBits bits = outer;  // in registers while the loop runs
    std::array<std::uint32_t, 3> recent = recent_;
    const bool aligned = type_ == aligned_block;
    while (out < stop) {
      bits.refill();
      unsigned symbol = main_.decode(bits);
      if (symbol < kLiterals) {
        *out++ = static_cast<Byte>(symbol);
        if (out == stop) break;
        symbol = main_.decode(bits);
        if (symbol < kLiterals) {
          *out++ = static_cast<Byte>(symbol);
          continue;
        }
        bits.refill();
      }
      symbol -= kLiterals;
      std::size_t length = symbol % kLengthHeaders + kShortestCopy;
      if (symbol % kLengthHeaders == kLengthHeaders - 1) {
        length += length_.decode(bits);
        bits.refill();
      }
      unsigned slot = symbol / kLengthHeaders;
      std::uint32_t distance = 0;
      if (slot > 2) {
        unsigned extra = kSlots.extra[slot];
        std::uint32_t low = 0;
        if (aligned && extra >= kAlignedBits) {
          low = bits.take_available(extra - kAlignedBits) << kAlignedBits;
          low += aligned_.decode(bits);
        } else {
          low = bits.take_available(extra);
        }
        distance = kSlots.base[slot] + low - 2;
        recent[2] = recent[1];
        recent[1] = recent[0];
      } else {
        distance = recent[slot];
        recent[slot] = recent[0];
      }
      recent[0] = distance;
      if (distance > static_cast<std::size_t>(out - begin) || distance == 0 || distance > window_)
        fail("a copy from before the first byte");
      if (length > static_cast<std::size_t>(end - out)) fail("a copy runs beyond its frame");
      copy_back(out, distance, length, end);
      out += length;
    }
    recent_ = recent;
    outer = bits;
    return out;
  }

  void copy_plain(WordBits& bits, Byte* out, std::size_t count) {
    ByteView raw = bits.rest();
    if (raw.size() < count) fail("the data ends too early; it is cut short");
    std::memcpy(out, raw.data(), count);
    bits.restart(count);
    if (count == block_left_ && odd_) {
      if (raw.size() > count) bits.restart(1);
      odd_ = false;
    }
  }

  bool short_form_, odd_ = false;
  unsigned main_symbols_, type_ = 0;
  std::size_t window_, block_left_ = 0;
  std::array<std::uint32_t, 3> recent_{1, 1, 1};
  std::array<Byte, kMainSymbols> main_lengths_{};
  std::array<Byte, kLengthSymbols> length_lengths_{};
  WordCode<kMainSymbols, 11> main_;
  WordCode<kLengthSymbols, 9> length_;
  WordCode<kAlignedSymbols, 7> aligned_;
};

/// Whether there is a call that untranslate_calls() would look at.
bool has_calls(ByteView data) {
  return data.size() > kUntranslatedTail &&
         std::memchr(data.data(), kCall, data.size() - kUntranslatedTail) != nullptr;
}

/// Calls in machine code were made absolute, so that equal targets look equal; this makes them relative
/// again. `position` is that of data[0] in the unpacked bytes.
void untranslate_calls(ByteSpan data, std::int32_t position, std::int32_t file_size) {
  if (data.size() <= kUntranslatedTail) return;
  Byte* at = data.data();
  Byte* end = at + data.size() - kUntranslatedTail;
  const Byte* begin = at;
  while (at < end) {
    at = static_cast<Byte*>(std::memchr(at, kCall, static_cast<std::size_t>(end - at)));
    if (at == nullptr) return;
    auto here = position + static_cast<std::int32_t>(at - begin);
    auto target = static_cast<std::int32_t>(load_little<std::uint32_t>(at + 1));
    if (target >= -here && target < file_size) {
      std::int32_t relative = target >= 0 ? target - here : target + file_size;
      for (unsigned i = 0; i < 4; ++i)
        at[1 + i] = static_cast<Byte>(static_cast<std::uint32_t>(relative) >> (8 * i));
    }
    at += 5;
  }
}

}  // namespace

struct LzxDecoder::State {
  explicit State(unsigned window_bits)
      : core(window_bits, false), history(std::size_t{1} << window_bits, kFrame) {}

  Core core;
  History history;
  Bytes translated;
  std::uint32_t frames = 0;
  std::int32_t translation = 0;  // 0: none
  bool started = false;
};

LzxDecoder::LzxDecoder(unsigned window_bits) : state_(std::make_unique<State>(window_bits)) {}
LzxDecoder::~LzxDecoder() = default;

ByteView LzxDecoder::decode_frame(ByteView packed, std::size_t size) {
  if (size > kFrame) throw Malformed(fmt::format("LZX data: a frame of {} bytes", size));
  State& s = *state_;
  WordBits bits(packed);
  if (!s.started) {
    s.started = true;
    if (bits.take(1) == 1) s.translation = static_cast<std::int32_t>(bits.take(32));
  }
  Byte* out = s.history.room(size);
  s.core.decode(bits, s.history.begin(), out, out + size);
  s.history.filled(size);
  std::uint32_t frame = s.frames++;
  if (s.translation == 0 || frame >= kTranslatedFrames || !has_calls({out, size})) return {out, size};
  s.translated.assign(out, out + size);
  untranslate_calls(s.translated, static_cast<std::int32_t>(frame * kFrame), s.translation);
  return s.translated;
}

void decode_lzx_chunk(ByteView packed, ByteSpan out, unsigned window_bits) {
  Core core(window_bits, true);
  WordBits bits(packed);
  core.decode(bits, out.data(), out.data(), out.data() + out.size());
  untranslate_calls(out, 0, kChunkTranslation);
}

}  // namespace operculum
