#include "codec/lzx_pack.h"

#include <fmt/format.h>

#include <array>
#include <bit>
#include <cstring>
#include <utility>

#include "base/error.h"
#include "base/numbers.h"
#include "codec/code_lengths.h"
#include "codec/lzx_numbers.h"
#include "codec/match_finder.h"

namespace operculum {
namespace {

using namespace lzx;

constexpr std::size_t kNice = 96;       // bytes of a copy of which no part is considered
constexpr std::size_t kMostTried = 24;  // what lies far back is found by longer strings
constexpr unsigned kPasses = 2;         // over a block, the second with what its symbols cost
constexpr unsigned kMostBits = 16, kMostAlignedBits = 7, kMostLengthCodeBits = 15;
constexpr std::size_t kAtOnce = 1 << 20;  // bytes packed before the window is moved to the front

using Recent = std::array<std::uint32_t, 3>;  // the last three distances, which have slots of their own

/// Bits in 16-bit little-endian words, the highest first. Each frame begins with a word of its own.
class WordWriter {
 public:
  void put(std::uint32_t value, unsigned bits) {
    if (bits > 16) {
      put(value >> 16, bits - 16);
      value &= 0xffff;
      bits = 16;
    }
    buffer_ = buffer_ << bits | value;
    count_ += bits;
    for (; count_ >= 16; count_ -= 16) append_number(out_, 2, buffer_ >> (count_ - 16) & 0xffff);
  }
  /// Up to the next word; a whole one where none has begun.
  void align_always() { put(0, 16 - count_); }
  void align() {
    if (count_ > 0) align_always();
  }
  Bytes& bytes() { return out_; }  // when aligned
  Bytes take() { return std::exchange(out_, {}); }

 private:
  Bytes out_;
  std::uint64_t buffer_ = 0;
  unsigned count_ = 0;
};

/// A copy, or with length 0 a literal, and which of the recent distances it has.
struct Step {
  std::uint32_t length = 0, distance = 0;
  std::int8_t recent = -1;  // -1: the distance is stated
};

unsigned slot_of(std::uint32_t distance) {
  std::uint32_t place = distance + 2;
  if (place < 4) return place;
  constexpr std::uint32_t kEvenFrom = 1 << 18;  // from here on slots are all as wide
  if (place >= kEvenFrom) return 34 + place / (kEvenFrom / 2);
  auto bits = static_cast<unsigned>(std::bit_width(place));
  return 2 * (bits - 1) + (place >> (bits - 2) & 1);
}
unsigned slot_of(const Step& step) {
  return step.recent >= 0 ? static_cast<unsigned>(step.recent) : slot_of(step.distance);
}
unsigned header_of(std::uint32_t length) {
  return std::min(length - kShortestCopy, kLengthHeaders - 1);
}
unsigned main_symbol(unsigned slot, std::uint32_t length) {
  return kLiterals + slot * kLengthHeaders + header_of(length);
}
bool states_length(std::uint32_t length) {
  return header_of(length) == kLengthHeaders - 1;
}
unsigned length_symbol(std::uint32_t length) {
  return length - kShortestCopy - (kLengthHeaders - 1);
}

/// The distances as they are behind a step.
Recent behind(Recent recent, const Step& step) {
  if (step.length == 0) return recent;
  if (step.recent >= 0) {
    std::swap(recent[0], recent[static_cast<std::size_t>(step.recent)]);
    return recent;
  }
  return {step.distance, recent[0], recent[1]};
}

/// How often symbols occur in a block.
struct Counts {
  std::vector<std::uint32_t> main, length, aligned;

  Counts(ByteView plain, const std::vector<Step>& steps, unsigned main_symbols)
      : main(main_symbols), length(kLengthSymbols), aligned(kAlignedSymbols) {
    std::size_t at = 0;
    for (const Step& step : steps) {
      if (step.length == 0) {
        ++main[plain[at++]];
        continue;
      }
      at += step.length;
      unsigned slot = slot_of(step);
      ++main[main_symbol(slot, step.length)];
      if (states_length(step.length)) ++length[length_symbol(step.length)];
      if (step.recent < 0 && kSlots.extra[slot] >= kAlignedBits) ++aligned[(step.distance + 2) % 8];
    }
  }
};

/// What symbols cost, in bits.
struct Costs {
  std::vector<std::uint32_t> main, length;

  explicit Costs(unsigned main_symbols) : main(main_symbols, 10), length(kLengthSymbols, 6) {
    std::fill_n(main.begin(), kLiterals, 8);
  }
  Costs(ByteView main_lengths, ByteView length_lengths)
      : main(symbol_costs(main_lengths)), length(symbol_costs(length_lengths)) {}

  std::uint32_t copy(unsigned slot, std::uint32_t copy_length) const {
    return main[main_symbol(slot, copy_length)] +
           (states_length(copy_length) ? length[length_symbol(copy_length)] : 0);
  }
};

/// Finds the cheapest steps through a block. The recent distances depend on the way: of the ways to a place
/// the cheapest is gone on with.
class Parser {
 public:
  Parser(ByteView buffer, std::size_t begin, std::size_t end, const MatchFinder& finder,
         const CopyLists& copies)
      : buffer_(buffer), begin_(begin), end_(end), finder_(finder), copies_(copies) {}

  std::vector<Step> run(const Costs& costs, const Recent& recent, std::size_t frame) {
    const std::size_t count = end_ - begin_;
    places_.assign(count + 1, {});
    places_[0] = {0, {}, recent};
    for (std::size_t i = 0; i < count; ++i) {
      const Place here = places_[i];
      std::size_t room = std::min<std::size_t>(frame - i % frame, count - i);
      arrive(i, here.bits + costs.main[buffer_[begin_ + i]], {}, here.recent);
      for (std::size_t r = 0; r < here.recent.size(); ++r) try_recent(i, here, r, room, costs);
      try_copies(i, here, costs);
    }
    std::vector<Step> steps;
    for (std::size_t at = count; at > 0; at -= std::max(places_[at].step.length, 1u))
      steps.push_back(places_[at].step);
    std::reverse(steps.begin(), steps.end());
    return steps;
  }

 private:
  struct Place {
    std::uint32_t bits = UINT32_MAX;
    Step step;
    Recent recent{};
  };

  void arrive(std::size_t from, std::uint32_t bits, const Step& step, const Recent& recent) {
    Place& place = places_[from + std::max(step.length, 1u)];
    if (bits >= place.bits) return;
    place = {bits, step, behind(recent, step)};
  }

  void try_recent(std::size_t i, const Place& here, std::size_t which, std::size_t room, const Costs& costs) {
    std::uint32_t distance = here.recent[which];
    if (distance > begin_ + i) return;
    std::size_t at = begin_ + i;
    std::size_t length = finder_.equal_bytes(at - distance, at, std::min<std::size_t>(room, kLongestCopy));
    for (std::size_t one = length >= kNice ? length : kShortestCopy; one <= length; ++one) {
      auto part = static_cast<std::uint32_t>(one);
      arrive(i, here.bits + costs.copy(static_cast<unsigned>(which), part),
             {part, distance, static_cast<std::int8_t>(which)}, here.recent);
    }
  }

  void try_copies(std::size_t i, const Place& here, const Costs& costs) {
    std::uint32_t from = MatchFinder::kShortest;
    for (const Copy& longest : copies_.at(i)) {
      unsigned slot = slot_of(longest.distance);
      if (longest.length >= kNice) from = longest.length;
      for (std::uint32_t length = from; length <= longest.length; ++length)
        arrive(i, here.bits + costs.copy(slot, length) + kSlots.extra[slot], {length, longest.distance, -1},
               here.recent);
      from = longest.length + 1;
    }
  }

  ByteView buffer_;
  std::size_t begin_, end_;
  const MatchFinder& finder_;
  const CopyLists& copies_;
  std::vector<Place> places_;
};

}  // namespace

struct LzxEncoder::State {
  explicit State(unsigned window_bits)
      : window(std::size_t{1} << window_bits),
        buffer(window + std::max(window, kAtOnce) + kBlock),
        main_symbols(kLiterals + kLengthHeaders * kSlotCounts[window_bits - kLeastWindow]),
        reach{.farthest = window - 3, .longest = kLongestCopy, .most_tried = kMostTried},
        finder(std::make_unique<MatchFinder>(buffer, reach)),
        main_lengths(main_symbols) {}

  std::vector<Bytes> pack(ByteView plain) {
    if (end + plain.size() > buffer.size()) slide();
    std::size_t begin = end;
    std::copy(plain.begin(), plain.end(), buffer.begin() + static_cast<std::ptrdiff_t>(end));
    end += plain.size();
    auto frame_end = [&](std::size_t at) {
      return std::min(begin + ((at - begin) / kFrame + 1) * kFrame, end);
    };
    CopyLists copies = find_copies(*finder, begin, end, kNice, frame_end);
    Parser parser(buffer, begin, end, *finder, copies);
    Costs costs(main_symbols);
    for (unsigned pass = 0;; ++pass) {
      std::vector<Step> steps = parser.run(costs, recent, kFrame);
      Counts counts(plain, steps, main_symbols);
      std::vector<Byte> main = code_lengths(counts.main, kMostBits);
      std::vector<Byte> length = code_lengths(counts.length, kMostBits);
      costs = Costs(main, length);
      if (pass + 1 == kPasses) return written(plain, steps, counts, main, length);
    }
  }

 private:
  static constexpr std::size_t kFrame = LzxEncoder::kFrame;

  void slide() {
    std::size_t kept = end - std::min(end, window);
    std::copy(buffer.begin() + static_cast<std::ptrdiff_t>(kept),
              buffer.begin() + static_cast<std::ptrdiff_t>(end), buffer.begin());
    end -= kept;
    finder = std::make_unique<MatchFinder>(buffer, reach);
    for (std::size_t at = 0; at < end; ++at) finder->pass(at, end);
  }

  std::vector<Bytes> written(ByteView plain, const std::vector<Step>& steps, const Counts& counts,
                             const std::vector<Byte>& main, const std::vector<Byte>& length) {
    std::vector<Byte> aligned = code_lengths(counts.aligned, kMostAlignedBits);
    std::uint64_t low_bits = 0, aligned_bits = kAlignedSymbols * kAlignedBits, coded = 0;
    for (std::size_t i = 0; i < aligned.size(); ++i) {
      low_bits += std::uint64_t{counts.aligned[i]} * kAlignedBits;
      aligned_bits += std::uint64_t{counts.aligned[i]} * aligned[i];
    }
    for (std::size_t i = 0; i < main.size(); ++i) {
      unsigned slot = i < kLiterals ? 0 : static_cast<unsigned>((i - kLiterals) / kLengthHeaders);
      unsigned extra = i < kLiterals || slot < 3 ? 0 : kSlots.extra[slot];
      coded += std::uint64_t{counts.main[i]} * (main[i] + extra);
    }
    for (std::size_t i = 0; i < length.size(); ++i) coded += std::uint64_t{counts.length[i]} * length[i];
    start();
    if (coded / 8 >= plain.size()) return write_plain(plain);
    Type type = aligned_bits < low_bits ? aligned_block : verbatim_block;
    out.put(type, kTypeBits);
    out.put(static_cast<std::uint32_t>(plain.size()), kSizeBits);
    if (type == aligned_block)
      for (Byte one : aligned) out.put(one, kAlignedBits);
    put_lengths(std::span(main).first(kLiterals), std::span(main_lengths).first(kLiterals));
    put_lengths(std::span(main).subspan(kLiterals), std::span(main_lengths).subspan(kLiterals));
    put_lengths(length, length_lengths);
    return write_steps(plain, steps, main, length, aligned, type);
  }

  void start() {
    if (std::exchange(started, true)) return;
    out.put(0, 1);  // no calls are translated
  }

  std::vector<Bytes> write_steps(ByteView plain, const std::vector<Step>& steps,
                                 const std::vector<Byte>& main, const std::vector<Byte>& length,
                                 const std::vector<Byte>& aligned, Type type) {
    auto main_codes = canonical_codes(main), length_codes = canonical_codes(length),
         aligned_codes = canonical_codes(aligned);
    std::vector<Bytes> frames;
    std::size_t at = 0;
    for (const Step& step : steps) {
      if (step.length == 0) {
        out.put(main_codes[plain[at]], main[plain[at]]);
      } else {
        unsigned slot = slot_of(step), symbol = main_symbol(slot, step.length);
        out.put(main_codes[symbol], main[symbol]);
        if (states_length(step.length)) {
          unsigned further = length_symbol(step.length);
          out.put(length_codes[further], length[further]);
        }
        if (step.recent < 0) put_distance(step.distance, slot, aligned, aligned_codes, type);
        recent = behind(recent, step);
      }
      at += std::max(step.length, 1u);
      if (at % kFrame == 0 || at == plain.size()) {
        out.align();
        frames.push_back(out.take());
      }
    }
    return frames;
  }

  void put_distance(std::uint32_t distance, unsigned slot, const std::vector<Byte>& aligned,
                    const std::vector<std::uint16_t>& aligned_codes, Type type) {
    unsigned extra = kSlots.extra[slot];
    std::uint32_t low = distance + 2 - kSlots.base[slot];
    if (type == aligned_block && extra >= kAlignedBits) {
      out.put(low >> kAlignedBits, extra - kAlignedBits);
      unsigned symbol = low % kAlignedSymbols;
      out.put(aligned_codes[symbol], aligned[symbol]);
    } else {
      out.put(low, extra);
    }
  }

  std::vector<Bytes> write_plain(ByteView plain) {
    out.put(plain_block, kTypeBits);
    out.put(static_cast<std::uint32_t>(plain.size()), kSizeBits);
    out.align_always();
    for (std::uint32_t distance : recent) append_number(out.bytes(), 4, distance);
    std::vector<Bytes> frames;
    for (std::size_t at = 0; at < plain.size(); at += kFrame) {
      ByteView part = plain.subspan(at, std::min(kFrame, plain.size() - at));
      out.bytes().insert(out.bytes().end(), part.begin(), part.end());
      if (part.size() % 2 != 0) out.bytes().push_back(0);
      frames.push_back(out.take());
    }
    return frames;
  }

  /// Code lengths as differences to those of the block before, which they replace; runs have symbols.
  void put_lengths(std::span<const Byte> lengths, std::span<Byte> before) {
    struct Row {
      unsigned symbol, extra, bits, difference;
    };
    constexpr unsigned kShortZeros = 17, kLongZeros = 18, kSame = 19;
    std::vector<Row> rows;
    auto difference_at = [&](std::size_t i) { return (before[i] + 17u - lengths[i]) % 17; };
    for (std::size_t i = 0; i < lengths.size();) {
      std::size_t run = 1;
      while (i + run < lengths.size() && lengths[i + run] == lengths[i]) ++run;
      if (lengths[i] == 0 && run >= 20) {
        auto part = static_cast<unsigned>(std::min<std::size_t>(run, 20 + 31));
        rows.push_back({kLongZeros, part - 20, 5, 0});
        i += part;
      } else if (lengths[i] == 0 && run >= 4) {
        auto part = static_cast<unsigned>(std::min<std::size_t>(run, 4 + 15));
        rows.push_back({kShortZeros, part - 4, 4, 0});
        i += part;
      } else if (run >= 4) {
        auto part = static_cast<unsigned>(std::min<std::size_t>(run, 5));
        rows.push_back({kSame, part - 4, 1, difference_at(i)});
        i += part;
      } else {
        rows.push_back({difference_at(i), 0, 0, 0});
        ++i;
      }
    }
    std::vector<std::uint32_t> counts(kLengthCodeSymbols);
    for (const Row& row : rows) {
      ++counts[row.symbol];
      if (row.symbol == kSame) ++counts[row.difference];
    }
    std::vector<Byte> code = code_lengths(counts, kMostLengthCodeBits);
    auto codes = canonical_codes(code);
    for (Byte one : code) out.put(one, kLengthCodeBits);
    for (const Row& row : rows) {
      out.put(codes[row.symbol], code[row.symbol]);
      out.put(row.extra, row.bits);
      if (row.symbol == kSame) out.put(codes[row.difference], code[row.difference]);
    }
    std::copy(lengths.begin(), lengths.end(), before.begin());
  }

  std::size_t window, end = 0;  // bytes; of what is in the buffer
  Bytes buffer;
  unsigned main_symbols;
  MatchFinder::Reach reach;
  std::unique_ptr<MatchFinder> finder;
  Recent recent{1, 1, 1};
  std::vector<Byte> main_lengths;
  std::array<Byte, kLengthSymbols> length_lengths{};
  WordWriter out;
  bool started = false;
};

LzxEncoder::LzxEncoder(unsigned window_bits) {
  if (window_bits < kLeastWindow || window_bits > kMostWindow)
    throw Malformed(fmt::format("LZX: a window of 2^{} bytes is not possible", window_bits));
  state_ = std::make_unique<State>(window_bits);
}
LzxEncoder::~LzxEncoder() = default;

std::vector<Bytes> LzxEncoder::pack(ByteView plain) {
  return plain.empty() ? std::vector<Bytes>() : state_->pack(plain);
}

}  // namespace operculum
