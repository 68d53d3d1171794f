// Deflate data without a header is told by the front of its first block (RFC 1951, section 3.2.7): 17 bits of
// kind and counts, up to 19 lengths of three bits for the code of lengths, then in that code the lengths of
// the literals' and the distances' codes. All three codes have to be complete, which chance hardly ever
// gives.
#include "codec/deflate_front.h"

#include <algorithm>
#include <array>
#include <bit>
#include <utility>

#include "base/cursor.h"
#include "codec/codec.h"
#include "io/counted_stream.h"

namespace operculum {
namespace {

constexpr unsigned kMostShort = 7, kMostLong = 15;  // bits of the codes of lengths, and of symbols
constexpr std::size_t kLiterals = 286, kDistances = 30, kEndOfBlock = 256;
constexpr Byte kLengthOrder[] = {16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15};
constexpr std::size_t kLengths = std::size(kLengthOrder);
constexpr std::size_t kFixedSize = 10;  // bytes of a header up to the last length of the code of lengths

/// What part of all codes four lengths of three bits take, in 1/128.
constexpr auto kShares = [] {
  std::array<std::uint16_t, 4096> shares{};
  for (std::size_t i = 0; i < shares.size(); ++i) {
    for (std::size_t four = i; four != 0; four >>= 3) {
      if (four % 8 != 0) shares[i] = static_cast<std::uint16_t>(shares[i] + (128 >> four % 8));
    }
  }
  return shares;
}();

/// The 17 bits in front of the lengths: last, kind (2), HLIT (5), HDIST (5), HCLEN (4).
std::uint32_t fixed_bits(const Byte* head) {
  return load_little<std::uint32_t>(head);
}
std::size_t length_count(const Byte* head) {
  return 4 + (fixed_bits(head) >> 13 & 15);
}

/// By HCLEN: the bits of the lengths that are there.
constexpr auto kLengthMasks = [] {
  std::array<std::uint64_t, 16> masks{};
  for (std::size_t i = 0; i < masks.size(); ++i) masks[i] = (std::uint64_t{1} << 3 * (i + 4)) - 1;
  return masks;
}();

/// The lengths of the code of lengths, three bits each, in kLengthOrder.
std::uint64_t short_lengths(const Byte* head) {
  return load_little<std::uint64_t>(head + 2) >> 1 & kLengthMasks[fixed_bits(head) >> 13 & 15];
}

/// Whether kFixedSize bytes, the first of which is of the right kind, can be a header's front. Without a
/// branch: half of all answers could not be foreseen.
bool has_complete_lengths(const Byte* head) {
  std::uint64_t lengths = short_lengths(head);
  std::uint32_t fixed = fixed_bits(head);
  unsigned sum = kShares[lengths % 4096] + kShares[lengths >> 12 & 4095] + kShares[lengths >> 24 & 4095] +
                 kShares[lengths >> 36 & 4095] + kShares[lengths >> 48];
  return ((sum == 128) & ((fixed >> 3 & 31) + 257 <= kLiterals) & ((fixed >> 8 & 31) < kDistances)) != 0;
}

/// Whether bytes look packed: hardly any occurs twice, as in neither texts, tables nor code.
bool look_packed(const Byte* bytes, std::size_t count) {
  std::array<std::uint64_t, 4> seen{};
  for (std::size_t i = 0; i < count; ++i) seen[bytes[i] / 64] |= std::uint64_t{1} << (bytes[i] % 64);
  int distinct = 0;
  for (std::uint64_t part : seen) distinct += std::popcount(part);
  return static_cast<std::size_t>(distinct) * 4 >= count * 3;  // of 64 bytes by chance 57
}

/// A prefix code as far as it was stated.
struct Stated {
  unsigned share = 0, symbols = 0;  // the share of all codes in 1/2^15
  void add(unsigned length, unsigned times) {
    if (length == 0) return;
    share += times << (kMostLong - length);
    symbols += times;
  }
  bool complete() const { return share == 1u << kMostLong; }
  bool too_many() const { return share > 1u << kMostLong; }
};

/// The code of lengths, as a table of the next kMostShort bits.
class LengthCode {
 public:
  explicit LengthCode(const Byte* head) {
    std::array<Byte, kLengths> lengths{};
    std::array<unsigned, kMostShort + 1> counts{}, next{};  // of each length; the next code of each
    std::uint64_t stated = short_lengths(head);
    for (Byte symbol : kLengthOrder) {
      lengths[symbol] = stated % 8;
      ++counts[lengths[symbol]];
      stated >>= 3;
    }
    counts[0] = 0;  // those that do not occur
    for (unsigned length = 1; length <= kMostShort; ++length)
      next[length] = (next[length - 1] + counts[length - 1]) << 1;
    for (std::size_t symbol = 0; symbol < kLengths; ++symbol) {
      if (unsigned length = lengths[symbol]; length != 0)
        fill(next[length]++, length, static_cast<Byte>(symbol));
    }
  }
  struct Slot {
    Byte symbol = 0, length = 0;
  };
  Slot operator[](std::uint64_t bits) const { return table_[bits % table_.size()]; }

 private:
  /// Codes are packed from their highest bit on.
  void fill(unsigned code, unsigned length, Byte symbol) {
    unsigned turned = 0;
    for (unsigned bit = 0; bit < length; ++bit) turned |= (code >> bit & 1) << (length - 1 - bit);
    for (std::size_t i = turned; i < table_.size(); i += std::size_t{1} << length)
      table_[i] = {symbol, static_cast<Byte>(length)};
  }
  std::array<Slot, 1 << kMostShort> table_{};
};

/// The codes of literals and distances, of a header whose front has complete lengths.
bool has_complete_codes(ByteView bytes) {
  const std::size_t literals = (bytes[0] >> 3) + 257u, all = literals + (bytes[1] & 31) + 1u;
  const LengthCode code(bytes.data());
  Stated literal, distance;
  bool ends = false;
  unsigned last = 0;
  std::size_t bit = 17 + 3 * length_count(bytes.data());
  for (std::size_t at = 0; at < all;) {
    if (bit / 8 + 4 > bytes.size()) return false;
    std::uint32_t bits = load_little<std::uint32_t>(bytes.data() + bit / 8) >> bit % 8;
    auto [symbol, length] = code[bits];
    bits >>= length;
    bit += length;
    unsigned times = 1;
    if (symbol < 16) {
      last = symbol;
    } else {
      if (symbol == 16 && at == 0) return false;
      unsigned extra = symbol == 16 ? 2 : symbol == 17 ? 3 : 7;
      times = (symbol == 18 ? 11 : 3) + bits % (1u << extra);
      bit += extra;
      if (symbol != 16) last = 0;
      if (times > all - at) return false;
    }
    ends |= last != 0 && at <= kEndOfBlock && at + times > kEndOfBlock;
    unsigned of_literals = at < literals ? std::min(times, static_cast<unsigned>(literals - at)) : 0;
    literal.add(last, of_literals);
    distance.add(last, times - of_literals);
    if (literal.too_many() || distance.too_many()) return false;
    at += times;
  }
  return ends && literal.complete() && (distance.complete() || distance.symbols <= 1);
}

constexpr std::uint64_t kOnes = 0x0101010101010101, kHigh = 0x8080808080808080;

/// The highest bits of eight bytes, side by side.
std::uint64_t gathered(std::uint64_t high_bits) {
  constexpr std::uint64_t kGather = 0x0102040810204080;
  return (high_bits >> 7) * kGather >> 56;
}
/// The highest bit of each byte that is 0.
std::uint64_t zeros(std::uint64_t bytes) {
  return ~(((bytes & ~kHigh) + ~kHigh) | bytes) & kHigh;
}

/// For 64 bytes a bit each; `of` gives eight of them.
template <typename Of>
std::uint64_t mask_of(const Byte* bytes, Of of) {
  std::uint64_t mask = 0;
  for (std::size_t i = 0; i < 64; i += 8) mask |= of(load_little<std::uint64_t>(bytes + i)) << i;
  return mask;
}

/// Which of eight bytes may be the first of a header.
std::uint64_t right_kinds(std::uint64_t bytes) {
  constexpr std::uint64_t kKind = 6 * kOnes, kOwnCodes = 4 * kOnes;
  return gathered((kHigh - ((bytes ^ kOwnCodes) & kKind)) & kHigh);
}

/// Which of 64 bytes what is in front of them makes likely to be a header's first: among eight bytes one of
/// filling, as in the numbers and names of what tells of packed data, or the header of zlib.
std::uint64_t likely_places(const Byte* bytes) {
  constexpr std::size_t kBefore = 8, kZlibHead = 2;
  constexpr auto filling = [](std::uint64_t one) { return gathered(zeros(one) | zeros(~one)); };
  constexpr auto zlib = [](std::uint64_t one) { return gathered(zeros(one ^ 0x78 * kOnes)); };
  const std::uint64_t rest = load_little<std::uint64_t>(bytes + 64 - kBefore);
  std::uint64_t near = mask_of(bytes - kBefore, filling), near_rest = filling(rest);
  std::uint64_t likely = near;
  for (std::size_t i = 1; i < kBefore; ++i) likely |= near >> i | near_rest << (64 - i);
  std::uint64_t heads = mask_of(bytes - kBefore, zlib), heads_rest = zlib(rest);
  return likely | heads >> (kBefore - kZlibHead) | heads_rest << (64 - kBefore + kZlibHead);
}

}  // namespace

std::size_t DeflateFronts::next(ByteView bytes, std::size_t at, std::size_t end) {
  constexpr std::size_t kGroup = 64, kSample = 64, kWindow = 512;
  if (bytes.size() < kFixedSize) return end;
  const std::size_t first = at, last = std::min(end, bytes.size() - kFixedSize + 1);
  std::size_t window_end = at;
  bool packed = false, next_packed = true;  // how this window begins, and the one behind it
  for (; at < last; at += kGroup) {
    while (at >= window_end) {
      packed = std::exchange(next_packed, true);
      window_end += kWindow;
      if (window_end + kSample <= bytes.size()) next_packed = look_packed(bytes.data() + window_end, kSample);
    }
    if (!packed && !next_packed) continue;
    std::uint64_t candidates = 0;
    if (at + kGroup <= last) {
      candidates = mask_of(bytes.data() + at, right_kinds);
      // what follows the end of something, or the beginning, is looked at in any case
      if (every_place_ == 0 && at > first) candidates &= likely_places(bytes.data() + at);
    } else {
      for (std::size_t i = 0; at + i < last; ++i) candidates |= std::uint64_t{(bytes[at + i] & 6) == 4} << i;
    }
    every_place_ -= std::min<std::uint64_t>(every_place_, kGroup);
    for (; candidates != 0; candidates &= candidates - 1) {
      std::size_t place = at + static_cast<std::size_t>(std::countr_zero(candidates));
      if (has_complete_lengths(bytes.data() + place) && has_complete_codes(bytes.subspan(place)))
        return place;
    }
  }
  return end;
}

std::optional<PackedExtent> deflate_extent(const SourcePtr& bytes, std::uint64_t at, std::uint64_t end,
                                           std::string_view codec, std::uint64_t& may_read) {
  constexpr std::size_t kPiece = 64 << 10;
  constexpr std::uint64_t kFree = 48 << 20, kMostRatio = 200;
  std::optional<PackedExtent> ended;
  std::uint64_t taken = 0, made = 0;
  CodecOptions options;
  options.member_ended = [&](std::uint64_t packed, std::uint64_t plain) {
    bool more = codec == "gzip" && starts_with(read_up_to(*bytes, at + packed, 2), "\x1f\x8b") &&
                at + packed + 2 <= end;
    if (!ended && !more) ended = {packed, plain};
  };
  try {
    StreamPtr packed = std::make_unique<CountedStream>(make_source_stream(bytes, at, end - at), taken);
    StreamPtr stream = open_decoder(codec, std::move(packed), options);
    Bytes plain(kPiece);
    while (!ended && taken <= may_read && made <= kFree + taken * kMostRatio) {
      std::size_t count = stream->read(plain);
      made += count;
      if (count == 0) break;
    }
  } catch (const std::exception&) {
    // told by what is not there
  }
  if (!ended) may_read -= std::min(may_read, taken);
  return ended;
}

}  // namespace operculum
