// LZFSE: LZ items whose lengths, distances and literals are packed by finite state entropy, after the
// published reference implementation. Blocks may also be plain or LZVN.
#include "codec/lzfse.h"

#include <algorithm>
#include <array>
#include <bit>

#include "base/fields.h"
#include "codec/lzvn.h"

namespace operculum {
namespace {

constexpr std::uint32_t kPlain = 0x2D787662, kTables1 = 0x31787662, kTables2 = 0x32787662, kLzvn = 0x6E787662,
                        kEnd = 0x24787662;
constexpr std::size_t kLengths = 20, kMatches = 20, kDistances = 64, kLiterals = 256;
constexpr std::size_t kLengthStates = 64, kMatchStates = 64, kDistanceStates = 256, kLiteralStates = 1024;
constexpr std::size_t kMostLiterals = 40'000, kMostMatches = 10'000;

constexpr std::array<std::uint8_t, kLengths> kLengthBits = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
                                                            0, 0, 0, 0, 0, 0, 2, 3, 5, 8};
constexpr std::array<std::uint32_t, kLengths> kLengthBase = {0,  1,  2,  3,  4,  5,  6,  7,  8,  9,
                                                             10, 11, 12, 13, 14, 15, 16, 20, 28, 60};
constexpr std::array<std::uint8_t, kMatches> kMatchBits = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
                                                           0, 0, 0, 0, 0, 0, 3, 5, 8, 11};
constexpr std::array<std::uint32_t, kMatches> kMatchBase = {0,  1,  2,  3,  4,  5,  6,  7,  8,  9,
                                                            10, 11, 12, 13, 14, 15, 16, 24, 56, 312};

/// Distances come in groups of four with one more bit in each.
constexpr std::array<std::uint8_t, kDistances> make_distance_bits() {
  std::array<std::uint8_t, kDistances> bits{};
  for (std::size_t i = 0; i < kDistances; ++i) bits[i] = static_cast<std::uint8_t>(i / 4);
  return bits;
}
constexpr std::array<std::uint32_t, kDistances> make_distance_base() {
  std::array<std::uint32_t, kDistances> base{};
  std::uint32_t next = 0;
  for (std::size_t i = 0; i < kDistances; ++i) {
    base[i] = next;
    next += 1U << (i / 4);
  }
  return base;
}
constexpr auto kDistanceBits = make_distance_bits();
constexpr auto kDistanceBase = make_distance_base();

[[noreturn]] void fail() {
  throw Malformed("an LZFSE block does not decode; the data is damaged");
}

/// Bits read from the end of a payload towards its start.
class BackwardBits {
 public:
  /// `bits`: how many of the last byte are not used, as a negative number.
  BackwardBits(ByteView payload, int bits) : payload_(payload), at_(payload.size()) {
    if (bits > 0 || bits < -7) fail();
    fill();
    auto unused = static_cast<std::size_t>(-bits);
    if (count_ < unused) fail();
    count_ -= unused;
    word_ &= mask(count_);
  }
  std::uint64_t pull(std::size_t bits) {
    if (bits > count_) {
      fill();
      if (bits > count_) fail();
    }
    count_ -= bits;
    std::uint64_t value = word_ >> count_;
    word_ &= mask(count_);
    return value;
  }

 private:
  static std::uint64_t mask(std::size_t bits) {
    return bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
  }
  void fill() {
    while (count_ + 8 <= 56 && at_ > 0) {
      word_ = (word_ << 8) | payload_[--at_];
      count_ += 8;
    }
  }

  ByteView payload_;
  std::size_t at_, count_ = 0;
  std::uint64_t word_ = 0;  // the bits not yet pulled
};

/// One state of a decoder: what it stands for, and where it leads.
struct State {
  std::uint8_t bits = 0, value_bits = 0;
  std::int32_t delta = 0;
  std::uint32_t value = 0;
};

/// Spreads the states over the symbols by their frequencies.
template <std::size_t Symbols>
std::vector<State> make_states(std::span<const std::uint16_t> frequencies, std::size_t states,
                               const std::array<std::uint8_t, Symbols>* value_bits,
                               const std::array<std::uint32_t, Symbols>* base) {
  std::vector<State> out;
  auto states_bits = std::countl_zero(static_cast<std::uint32_t>(states));
  for (std::size_t symbol = 0; symbol < Symbols; ++symbol) {
    std::uint32_t f = frequencies[symbol];
    if (f == 0) continue;
    if (out.size() + f > states) fail();
    int k = std::countl_zero(f) - states_bits;
    std::uint32_t longer = ((2 * static_cast<std::uint32_t>(states)) >> k) - f;
    for (std::uint32_t j = 0; j < f; ++j) {
      State state;
      if (j < longer) {
        state.bits = static_cast<std::uint8_t>(k);
        state.delta = static_cast<std::int32_t>(((f + j) << k) - states);
      } else {
        state.bits = static_cast<std::uint8_t>(k - 1);
        state.delta = static_cast<std::int32_t>((j - longer) << (k - 1));
      }
      state.value_bits = value_bits != nullptr ? (*value_bits)[symbol] : 0;
      state.value = base != nullptr ? (*base)[symbol] : static_cast<std::uint32_t>(symbol);
      out.push_back(state);
    }
  }
  out.resize(states);
  return out;
}

/// Goes from state to state and gives a value at each step.
class Decoder {
 public:
  Decoder(const std::vector<State>& states, std::size_t first) : states_(states), state_(first) {
    if (first >= states.size()) fail();
  }
  std::uint32_t next(BackwardBits& bits) {
    const State& state = states_[state_];
    auto low = static_cast<std::int64_t>(bits.pull(state.bits));
    std::uint32_t value = state.value;
    // the value's own bits lie below those of the state, and were written before them
    if (state.value_bits > 0) value += static_cast<std::uint32_t>(bits.pull(state.value_bits));
    std::int64_t following = state.delta + low;
    if (following < 0 || following >= static_cast<std::int64_t>(states_.size())) fail();
    state_ = static_cast<std::size_t>(following);
    return value;
  }

 private:
  const std::vector<State>& states_;
  std::size_t state_;
};

struct Header {
  std::size_t raw = 0, size = 0;  // bytes; of the header with its tables
  std::size_t literals = 0, literal_bytes = 0, matches = 0, match_bytes = 0;
  int literal_bits = 0, match_bits = 0;
  std::array<std::uint16_t, 4> literal_states{};
  std::uint16_t length_state = 0, match_state = 0, distance_state = 0;
  std::array<std::uint16_t, kLengths + kMatches + kDistances + kLiterals> frequencies{};
};

/// Frequencies in codes of 2 to 14 bits, lowest bit first.
void read_frequencies(ByteView raw, Header& header) {
  static constexpr std::uint8_t kWidth[32] = {2, 3, 2, 5, 2, 3, 2, 8, 2, 3, 2, 5, 2, 3, 2, 14,
                                              2, 3, 2, 5, 2, 3, 2, 8, 2, 3, 2, 5, 2, 3, 2, 14};
  static constexpr std::uint8_t kValue[32] = {0, 2, 1, 4, 0, 3, 1, 0, 0, 2, 1, 5, 0, 3, 1, 0,
                                              0, 2, 1, 6, 0, 3, 1, 0, 0, 2, 1, 7, 0, 3, 1, 0};
  std::uint32_t bits = 0;
  unsigned held = 0;
  std::size_t at = 0;
  if (raw.empty()) return;
  for (std::uint16_t& frequency : header.frequencies) {
    while (held <= 24 && at < raw.size()) {
      bits |= std::uint32_t{raw[at++]} << held;
      held += 8;
    }
    unsigned code = bits & 31, width = kWidth[code];
    frequency = static_cast<std::uint16_t>(width == 8    ? 8 + ((bits >> 4) & 15)
                                           : width == 14 ? 24 + ((bits >> 4) & 1023)
                                                         : kValue[code]);
    if (width > held) fail();
    bits >>= width;
    held -= width;
  }
}

Header read_tables2(ByteView block) {
  LittleFields f(block, "LZFSE block");
  std::uint64_t a = f.u64(8), b = f.u64(16), c = f.u64(24);
  auto field = [](std::uint64_t word, unsigned at, unsigned width) {
    return (word >> at) & ((std::uint64_t{1} << width) - 1);
  };
  Header h;
  h.raw = f.u32(4);
  h.literals = field(a, 0, 20);
  h.literal_bytes = field(a, 20, 20);
  h.matches = field(a, 40, 20);
  h.literal_bits = static_cast<int>(field(a, 60, 3)) - 7;
  for (unsigned i = 0; i < 4; ++i) h.literal_states[i] = static_cast<std::uint16_t>(field(b, i * 10, 10));
  h.match_bytes = field(b, 40, 20);
  h.match_bits = static_cast<int>(field(b, 60, 3)) - 7;
  h.size = field(c, 0, 32);
  h.length_state = static_cast<std::uint16_t>(field(c, 32, 10));
  h.match_state = static_cast<std::uint16_t>(field(c, 42, 10));
  h.distance_state = static_cast<std::uint16_t>(field(c, 52, 10));
  if (h.size < 32) fail();
  read_frequencies(f.bytes(32, h.size - 32), h);
  return h;
}

Header read_tables1(ByteView block) {
  LittleFields f(block, "LZFSE block");
  Header h;
  h.raw = f.u32(4);
  h.literals = f.u32(12);
  h.matches = f.u32(16);
  h.literal_bytes = f.u32(20);
  h.match_bytes = f.u32(24);
  h.literal_bits = static_cast<std::int32_t>(f.u32(28));
  for (std::size_t i = 0; i < 4; ++i) h.literal_states[i] = f.u16(32 + i * 2);
  h.match_bits = static_cast<std::int32_t>(f.u32(40));
  h.length_state = f.u16(44);
  h.match_state = f.u16(46);
  h.distance_state = f.u16(48);
  for (std::size_t i = 0; i < h.frequencies.size(); ++i) h.frequencies[i] = f.u16(50 + i * 2);
  h.size = 50 + h.frequencies.size() * 2 + 2;
  return h;
}

/// Decodes one block behind what `out` holds already; returns how much it has then.
std::size_t decode_entropy(const Header& h, ByteView payload, ByteSpan out, std::size_t done) {
  if (h.literals > kMostLiterals || h.matches > kMostMatches || h.literals % 4 != 0) fail();
  std::span<const std::uint16_t> all(h.frequencies);
  auto lengths = make_states<kLengths>(all.subspan(0, kLengths), kLengthStates, &kLengthBits, &kLengthBase);
  auto matches =
      make_states<kMatches>(all.subspan(kLengths, kMatches), kMatchStates, &kMatchBits, &kMatchBase);
  auto distances = make_states<kDistances>(all.subspan(kLengths + kMatches, kDistances), kDistanceStates,
                                           &kDistanceBits, &kDistanceBase);
  auto literal_states =
      make_states<kLiterals>(all.subspan(kLengths + kMatches + kDistances), kLiteralStates, nullptr, nullptr);
  Bytes literals(h.literals);
  if (h.literals > 0) {
    BackwardBits bits(payload.first(h.literal_bytes), h.literal_bits);
    std::vector<Decoder> decoders;
    for (std::uint16_t state : h.literal_states) decoders.emplace_back(literal_states, state);
    for (std::size_t i = 0; i < h.literals; ++i) literals[i] = static_cast<Byte>(decoders[i % 4].next(bits));
  }
  BackwardBits bits(payload.subspan(h.literal_bytes, h.match_bytes), h.match_bits);
  Decoder length(lengths, h.length_state), match(matches, h.match_state), back(distances, h.distance_state);
  std::size_t literal_at = 0, distance = 0;
  for (std::size_t i = 0; i < h.matches; ++i) {
    std::size_t count = length.next(bits), copy = match.next(bits), far = back.next(bits);
    if (far != 0) distance = far;
    if (count > literals.size() - literal_at || count + copy > out.size() - done) fail();
    std::copy_n(literals.begin() + static_cast<std::ptrdiff_t>(literal_at), count,
                out.begin() + static_cast<std::ptrdiff_t>(done));
    literal_at += count;
    done += count;
    if (copy == 0) continue;
    if (distance == 0 || distance > done) fail();
    for (std::size_t k = 0; k < copy; ++k, ++done) out[done] = out[done - distance];
  }
  return done;
}

}  // namespace

std::size_t decode_lzfse(ByteView packed, ByteSpan out) {
  std::size_t done = 0, at = 0;
  for (;;) {
    if (packed.size() - at < 4) fail();
    LittleFields f(packed.subspan(at), "LZFSE block", at);
    std::uint32_t magic = f.u32(0);
    if (magic == kEnd) return done;
    std::size_t before = done, raw = f.u32(4);
    if (raw > out.size() - done) fail();
    if (magic == kPlain) {
      ByteView plain = f.bytes(8, raw);
      std::copy(plain.begin(), plain.end(), out.begin() + static_cast<std::ptrdiff_t>(done));
      done += raw;
      at += 8 + raw;
    } else if (magic == kLzvn) {
      std::size_t size = f.u32(8);
      done = decode_lzvn(f.bytes(12, size), out.first(done + raw), done);
      at += 12 + size;
    } else if (magic == kTables1 || magic == kTables2) {
      Header h = magic == kTables2 ? read_tables2(f.all()) : read_tables1(f.all());
      done = decode_entropy(h, f.bytes(h.size, h.literal_bytes + h.match_bytes), out.first(done + raw), done);
      at += h.size + h.literal_bytes + h.match_bytes;
    } else {
      fail();
    }
    if (done - before != raw) fail();
  }
}

}  // namespace operculum
