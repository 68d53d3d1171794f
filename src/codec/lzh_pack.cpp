#include <algorithm>
#include <bit>
#include <optional>
#include <utility>

#include "codec/code_lengths.h"
#include "codec/lzh.h"
#include "codec/lzh_numbers.h"
#include "codec/match_finder.h"
#include "codec/pack_window.h"

namespace operculum {
namespace {

using namespace lzh;

constexpr std::size_t kBlock = 48 * 1024;  // plain bytes: never more symbols than a block can state
constexpr std::size_t kNice = 192;         // bytes of a copy that is taken without looking further
constexpr unsigned kPasses = 2;            // over a block, the second with what its symbols cost

/// Bits from the highest of each byte on.
class HighBitsWriter {
 public:
  void put(std::uint32_t value, unsigned bits) {
    buffer_ = buffer_ << bits | value;
    count_ += bits;
    for (; count_ >= 8; count_ -= 8) out_.push_back(static_cast<Byte>(buffer_ >> (count_ - 8)));
  }
  Bytes take() { return std::exchange(out_, {}); }
  void finish() {
    if (count_ > 0) put(0, 8 - count_);
  }

 private:
  Bytes out_;
  std::uint64_t buffer_ = 0;
  unsigned count_ = 0;
};

/// A code as it is written: a lone symbol takes no bits.
struct Code {
  std::vector<Byte> lengths;
  std::vector<std::uint16_t> codes;
  std::optional<unsigned> lone;

  explicit Code(const std::vector<std::uint32_t>& counts) {
    auto used = std::count_if(counts.begin(), counts.end(), [](std::uint32_t one) { return one > 0; });
    if (used <= 1) {
      auto found = std::find_if(counts.begin(), counts.end(), [](std::uint32_t one) { return one > 0; });
      lone = found == counts.end() ? 0 : static_cast<unsigned>(found - counts.begin());
      lengths.assign(counts.size(), 0);
      codes.assign(counts.size(), 0);
      return;
    }
    lengths = code_lengths(counts, kMostBits);
    codes = canonical_codes(lengths);
  }
  void put(HighBitsWriter& out, unsigned symbol) const {
    if (!lone) out.put(codes[symbol], lengths[symbol]);
  }
  /// Of symbols that are used; the others come after it.
  unsigned count() const { return static_cast<unsigned>(used_symbols(lengths)); }
};

unsigned symbol_of(const Copy& copy) {
  return 256 + copy.length - kShortestCopy;
}
unsigned place_of(std::uint32_t distance) {
  return static_cast<unsigned>(std::bit_width(distance - 1));
}

/// What symbols cost, in bits.
class Costs {
 public:
  explicit Costs(unsigned places) : symbols_(kSymbols, 8), places_(places, 4) {}
  Costs(const Code& symbols, const Code& places) : symbols_(bits_of(symbols)), places_(bits_of(places)) {}

  std::uint32_t literal(Byte one) const { return symbols_[one]; }
  std::uint32_t copy(const Copy& copy) const {
    unsigned place = place_of(copy.distance);
    return symbols_[symbol_of(copy)] + places_[place] + (place > 1 ? place - 1 : 0);
  }

 private:
  /// A lone symbol is all that there is: others would need a code.
  static std::vector<std::uint32_t> bits_of(const Code& code) {
    if (!code.lone) return symbol_costs(code.lengths);
    std::vector<std::uint32_t> bits(code.lengths.size(), 8);
    bits[*code.lone] = 1;
    return bits;
  }
  std::vector<std::uint32_t> symbols_, places_;
};

class LzhPacker final : public WindowPacker {
 public:
  LzhPacker(StreamPtr plain, unsigned window_bits)
      : WindowPacker(std::move(plain), std::size_t{1} << window_bits, kBlock,
                     {.farthest = (std::size_t{1} << window_bits) - 1, .longest = kLongestCopy}),
        places_(window_bits + 1),
        place_bits_(window_bits > kShortPlaceWindow ? 5 : 4) {}

 private:
  Bytes pack_block(ByteView buffer, std::size_t begin, std::size_t end, MatchFinder& finder,
                   bool last) override {
    if (begin == end) return {};  // no block is empty
    ByteView plain = buffer.subspan(begin, end - begin);
    CopyLists copies = find_copies(finder, begin, end, kNice, [end](std::size_t) { return end; });
    Costs costs(places_);
    for (unsigned pass = 0;; ++pass) {
      std::vector<Copy> steps = cheapest_steps(plain, copies, kNice, costs);
      std::vector<std::uint32_t> symbol_counts(kSymbols), place_counts(places_);
      std::size_t at = 0;
      for (const Copy& step : steps) {
        ++symbol_counts[step.length == 0 ? plain[at] : symbol_of(step)];
        if (step.length > 0) ++place_counts[place_of(step.distance)];
        at += std::max(step.length, 1u);
      }
      Code symbols(symbol_counts), places(place_counts);
      if (pass + 1 < kPasses) {
        costs = Costs(symbols, places);
        continue;
      }
      write_block(plain, steps, symbols, places);
      if (last) out_.finish();
      return out_.take();
    }
  }

  void write_block(ByteView plain, const std::vector<Copy>& steps, const Code& symbols, const Code& places) {
    out_.put(static_cast<std::uint32_t>(steps.size()), 16);
    write_symbol_lengths(symbols);
    write_lengths(places, place_bits_, UINT32_MAX);
    std::size_t at = 0;
    for (const Copy& step : steps) {
      symbols.put(out_, step.length == 0 ? plain[at] : symbol_of(step));
      at += std::max(step.length, 1u);
      if (step.length == 0) continue;
      unsigned place = place_of(step.distance);
      places.put(out_, place);
      if (place > 1) out_.put((step.distance - 1) & ((1u << (place - 1)) - 1), place - 1);
    }
  }

  /// See LzhStream::read_lengths().
  void write_lengths(const Code& code, unsigned width, unsigned gap) {
    if (code.lone) {
      out_.put(0, width);
      return out_.put(*code.lone, width);
    }
    unsigned count = code.count();
    out_.put(count, width);
    for (unsigned i = 0; i < count;) {
      unsigned length = code.lengths[i++];
      if (length < 7) {
        out_.put(length, 3);
      } else {
        out_.put(7, 3);
        out_.put((1u << (length - 6)) - 2, length - 6);  // ones, and a zero
      }
      if (i != gap) continue;
      unsigned zeros = 0;
      while (zeros < 3 && i + zeros < count && code.lengths[i + zeros] == 0) ++zeros;
      out_.put(zeros, 2);
      i += zeros;
    }
  }

  /// Lengths of the symbols' code, in a code of their own: 0 to 2 are runs of zeros.
  void write_symbol_lengths(const Code& symbols) {
    struct Row {
      unsigned symbol, extra, bits;
    };
    std::vector<Row> rows;
    unsigned count = symbols.lone ? 0 : symbols.count();
    for (unsigned i = 0; i < count;) {
      if (symbols.lengths[i] > 0) {
        rows.push_back({symbols.lengths[i++] + 2u, 0, 0});
        continue;
      }
      unsigned run = 0;
      while (i + run < count && symbols.lengths[i + run] == 0) ++run;
      i += run;
      while (run > 0) {
        unsigned part = run < 3 ? 1 : run < 20 ? std::min(run, 18u) : std::min(run, 20u + 511);
        rows.push_back(part == 1   ? Row{0, 0, 0}
                       : part < 20 ? Row{1, part - 3, 4}
                                   : Row{2, part - 20, kSymbolBits});
        run -= part;
      }
    }
    std::vector<std::uint32_t> counts(kLengthSymbols);
    for (const Row& row : rows) ++counts[row.symbol];
    Code code(counts);
    write_lengths(code, kLengthBits, kLengthGap);
    out_.put(count, kSymbolBits);
    if (symbols.lone) return out_.put(*symbols.lone, kSymbolBits);
    for (const Row& row : rows) {
      code.put(out_, row.symbol);
      out_.put(row.extra, row.bits);
    }
  }

  unsigned places_, place_bits_;
  HighBitsWriter out_;
};

}  // namespace

StreamPtr pack_lzh(StreamPtr plain, unsigned window_bits) {
  check_window(window_bits);
  return std::make_unique<LzhPacker>(std::move(plain), window_bits);
}

}  // namespace operculum
