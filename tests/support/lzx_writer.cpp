#include "support/lzx_writer.h"

#include <algorithm>
#include <array>

#include "support/lz_items.h"

namespace operculum::test {
namespace {

constexpr std::size_t kFrame = 32768;
constexpr std::array<unsigned, 7> kSlots = {30, 32, 34, 36, 38, 42, 50};
constexpr std::size_t kLengths = 249;

struct Slot {
  unsigned number = 0, extra = 0;
  std::uint32_t low = 0;
};

/// The slot of a distance that is none of the last three.
Slot slot_of(std::size_t distance) {
  auto formatted = static_cast<std::uint32_t>(distance + 2);
  std::uint32_t base = 0;
  for (unsigned i = 0;; ++i) {
    unsigned extra = i < 4 ? 0 : std::min(i / 2 - 1, 17u);
    if (formatted < base + (1u << extra)) return {i, extra, formatted - base};
    base += 1u << extra;
  }
}

/// An item as symbols of a block.
struct Coded {
  unsigned main = 0, length = 0;
  bool has_length = false;
  Slot slot;
};

class Writer {
 public:
  Writer(ByteView plain, const LzxOptions& options, bool short_form)
      : plain_(plain), options_(options), short_form_(short_form) {
    main_.resize(256 + 8 * kSlots[options.window_bits - 15]);
    lengths_.resize(kLengths);
  }

  std::vector<Bytes> frames() {
    if (!short_form_) {
      bits_.put(options_.translate != 0 ? 1 : 0, 1);
      if (options_.translate != 0) {
        bits_.put(static_cast<std::uint32_t>(options_.translate) >> 16, 16);
        bits_.put(static_cast<std::uint32_t>(options_.translate) & 0xFFFF, 16);
      }
    }
    std::vector<LzItem> items = find_copies(plain_, {.window = (std::size_t{1} << options_.window_bits) - 3,
                                                     .least = 3,
                                                     .longest = 257,
                                                     .frame = kFrame});
    std::size_t at = 0, item = 0;
    for (unsigned number = 0; at < plain_.size(); ++number) {
      std::size_t end = at, last = item;
      while (last < items.size() && end - at < options_.block)
        end += std::max<std::size_t>(items[last++].length, 1);
      auto kind = options_.blocks;
      if (kind == LzxOptions::Blocks::mixed)
        kind = number % 3 == 0   ? LzxOptions::Blocks::verbatim
               : number % 3 == 1 ? LzxOptions::Blocks::plain
                                 : LzxOptions::Blocks::aligned;
      if (kind == LzxOptions::Blocks::plain) {
        plain_block(at, end);
      } else {
        coded_block(std::vector<LzItem>(items.begin() + static_cast<std::ptrdiff_t>(item),
                                        items.begin() + static_cast<std::ptrdiff_t>(last)),
                    at, end, kind == LzxOptions::Blocks::aligned);
      }
      at = end;
      item = last;
    }
    if (done_ % kFrame != 0 || frames_.empty()) frames_.push_back(bits_.take());
    return std::move(frames_);
  }

 private:
  void header(unsigned type, std::size_t size) {
    bits_.put(type, 3);
    if (!short_form_) {
      bits_.put(static_cast<std::uint32_t>(size) >> 8, 16);
      bits_.put(static_cast<std::uint32_t>(size) & 0xFF, 8);
    } else if (size == kFrame) {
      bits_.put(1, 1);
    } else {
      bits_.put(0, 1);
      if (options_.window_bits > 15) bits_.put(static_cast<std::uint32_t>(size) >> 16, 8);
      bits_.put(static_cast<std::uint32_t>(size) & 0xFFFF, 16);
    }
  }

  /// Whoever reaches the end of a frame begins the next one.
  void passed(std::size_t count) {
    done_ += count;
    if (done_ % kFrame != 0 || short_form_) return;
    frames_.push_back(bits_.take());
    bits_ = WordBitWriter();
  }

  void plain_block(std::size_t at, std::size_t end) {
    header(3, end - at);
    bits_.align(true);
    for (std::size_t distance : recent_) {
      for (int i = 0; i < 4; ++i) bits_.raw(Bytes{static_cast<Byte>(distance >> (8 * i))});
    }
    bool odd = (end - at) % 2 != 0;
    while (at < end) {
      std::size_t count = std::min(end - at, kFrame - done_ % kFrame);
      bits_.raw(plain_.subspan(at, count));
      at += count;
      if (at == end && odd) bits_.raw(Bytes{0});
      passed(count);
    }
  }

  Coded code(const LzItem& item) {
    Coded coded;
    if (item.length == 0) {
      coded.main = item.literal;
      return coded;
    }
    auto known = std::find(recent_.begin(), recent_.end(), item.distance);
    if (known != recent_.end()) {
      coded.slot.number = static_cast<unsigned>(known - recent_.begin());
      std::swap(*known, recent_[0]);
    } else {
      coded.slot = slot_of(item.distance);
      recent_ = {item.distance, recent_[0], recent_[1]};
    }
    auto length = static_cast<unsigned>(item.length - 2);
    coded.has_length = length >= 7;
    if (coded.has_length) coded.length = length - 7;
    coded.main = 256 + coded.slot.number * 8 + std::min(length, 7u);
    return coded;
  }

  void coded_block(const std::vector<LzItem>& items, std::size_t at, std::size_t end, bool aligned) {
    std::vector<Coded> coded;
    std::vector<std::size_t> main(main_.size()), lengths(kLengths), low(8);
    for (const LzItem& item : items) {
      coded.push_back(code(item));
      ++main[coded.back().main];
      if (coded.back().has_length) ++lengths[coded.back().length];
      if (coded.back().slot.extra >= 3) ++low[coded.back().slot.low & 7];
    }
    header(aligned ? 2 : 1, end - at);
    std::vector<Byte> low_lengths = code_lengths(low, 7);
    if (aligned) {
      for (Byte length : low_lengths) bits_.put(length, 3);
    }
    std::vector<Byte> new_main = code_lengths(main, 16), new_lengths = code_lengths(lengths, 16);
    write_lengths(main_, new_main, 0, 256);
    write_lengths(main_, new_main, 256, new_main.size());
    write_lengths(lengths_, new_lengths, 0, kLengths);
    auto main_codes = canonical_codes(main_), length_codes = canonical_codes(lengths_),
         low_codes = canonical_codes(low_lengths);
    for (std::size_t i = 0; i < items.size(); ++i) {
      const Coded& one = coded[i];
      bits_.put(main_codes[one.main], main_[one.main]);
      if (one.has_length) bits_.put(length_codes[one.length], lengths_[one.length]);
      if (aligned && one.slot.extra >= 3) {
        bits_.put(one.slot.low >> 3, one.slot.extra - 3);
        bits_.put(low_codes[one.slot.low & 7], low_lengths[one.slot.low & 7]);
      } else {
        bits_.put(one.slot.low, one.slot.extra);
      }
      passed(std::max<std::size_t>(items[i].length, 1));
    }
  }

  /// Differences to the block before, with runs of zeros and of equal lengths.
  void write_lengths(std::vector<Byte>& old, const std::vector<Byte>& lengths, std::size_t from,
                     std::size_t to) {
    struct Symbol {
      unsigned code, bits, extra, second;
    };
    std::vector<Symbol> symbols;
    auto difference = [&](std::size_t i) { return (old[i] + 17u - lengths[i]) % 17; };
    for (std::size_t i = from; i < to;) {
      std::size_t run = 1;
      while (i + run < to && lengths[i + run] == lengths[i]) ++run;
      if (lengths[i] == 0 && run >= 20) {
        run = std::min<std::size_t>(run, 51);
        symbols.push_back({18, 5, static_cast<unsigned>(run - 20), 0});
      } else if (lengths[i] == 0 && run >= 4) {
        run = std::min<std::size_t>(run, 19);
        symbols.push_back({17, 4, static_cast<unsigned>(run - 4), 0});
      } else if (run >= 4) {
        run = std::min<std::size_t>(run, 5);
        symbols.push_back({19, 1, static_cast<unsigned>(run - 4), difference(i)});
      } else {
        run = 1;
        symbols.push_back({difference(i), 0, 0, 0});
      }
      i += run;
    }
    std::vector<std::size_t> counts(20);
    for (const Symbol& symbol : symbols) {
      ++counts[symbol.code];
      if (symbol.code == 19) ++counts[symbol.second];
    }
    std::vector<Byte> own = code_lengths(counts, 15);
    auto codes = canonical_codes(own);
    for (Byte length : own) bits_.put(length, 4);
    for (const Symbol& symbol : symbols) {
      bits_.put(codes[symbol.code], own[symbol.code]);
      bits_.put(symbol.extra, symbol.bits);
      if (symbol.code == 19) bits_.put(codes[symbol.second], own[symbol.second]);
    }
    std::copy(lengths.begin() + static_cast<std::ptrdiff_t>(from),
              lengths.begin() + static_cast<std::ptrdiff_t>(to),
              old.begin() + static_cast<std::ptrdiff_t>(from));
  }

  ByteView plain_;
  const LzxOptions& options_;
  bool short_form_;
  WordBitWriter bits_;
  std::vector<Bytes> frames_;
  std::size_t done_ = 0;
  std::array<std::size_t, 3> recent_{1, 1, 1};
  std::vector<Byte> main_, lengths_;
};

/// Makes relative call targets absolute, as the translation of the specification does.
Bytes translated(ByteView plain, std::int32_t file_size, std::size_t frame) {
  Bytes out(plain.begin(), plain.end());
  for (std::size_t begin = 0; begin < out.size(); begin += frame) {
    std::size_t size = std::min(frame, out.size() - begin);
    if (size <= 10) break;
    for (std::size_t i = 0; i < size - 10; ++i) {
      if (out[begin + i] != 0xE8) continue;
      auto here = static_cast<std::int32_t>(begin + i);
      std::uint32_t raw = 0;
      for (unsigned b = 0; b < 4; ++b) raw |= std::uint32_t{out[begin + i + 1 + b]} << (8 * b);
      auto relative = static_cast<std::int32_t>(raw);
      if (relative >= -here && relative < file_size) {
        std::int32_t absolute = relative < file_size - here ? relative + here : relative - file_size;
        for (unsigned b = 0; b < 4; ++b)
          out[begin + i + 1 + b] = static_cast<Byte>(static_cast<std::uint32_t>(absolute) >> (8 * b));
      }
      i += 4;
    }
  }
  return out;
}

}  // namespace

std::vector<Bytes> pack_lzx(ByteView plain, const LzxOptions& options) {
  Bytes turned;
  if (options.translate != 0) {
    turned = translated(plain, options.translate, kFrame);
    plain = turned;
  }
  return Writer(plain, options, false).frames();
}

Bytes pack_lzx_chunk(ByteView plain, unsigned window_bits) {
  Bytes turned = translated(plain, 12'000'000, plain.size());
  LzxOptions options{.window_bits = window_bits, .block = plain.size()};
  std::vector<Bytes> frames = Writer(turned, options, true).frames();
  return frames.front();
}

}  // namespace operculum::test
