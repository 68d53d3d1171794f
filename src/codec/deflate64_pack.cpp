// Deflate64, packed: dynamic blocks, or stored ones where nothing is won.
#include <algorithm>
#include <utility>

#include "codec/code_lengths.h"
#include "codec/deflate64_numbers.h"
#include "codec/pack_window.h"
#include "codec/packers.h"

namespace operculum {
namespace {

using namespace deflate64;

constexpr std::size_t kBlock = 60 * 1024;  // plain bytes: also a stored block can state so many
constexpr std::size_t kNice = 258;         // bytes of a copy that is taken without looking further
constexpr std::size_t kLongestCopy = 3 + 65535;
constexpr unsigned kMostBits = 15, kMostLengthBits = 7;
constexpr unsigned kPasses = 2;  // over a block, the second with what its symbols cost

/// Bits from the lowest of each byte on; codes come with their highest bit first.
class LowBitsWriter {
 public:
  void put(std::uint32_t value, unsigned bits) {
    buffer_ |= std::uint64_t{value} << count_;
    count_ += bits;
    for (; count_ >= 8; count_ -= 8) {
      out_.push_back(static_cast<Byte>(buffer_));
      buffer_ >>= 8;
    }
  }
  void put_code(std::uint16_t code, unsigned bits) {
    std::uint32_t turned = 0;
    for (unsigned bit = 0; bit < bits; ++bit) turned |= (code >> bit & 1u) << (bits - 1 - bit);
    put(turned, bits);
  }
  void align() {
    if (count_ > 0) put(0, 8 - count_);
  }
  void put(ByteView bytes) { out_.insert(out_.end(), bytes.begin(), bytes.end()); }  // when aligned
  Bytes take() { return std::exchange(out_, {}); }

 private:
  Bytes out_;
  std::uint64_t buffer_ = 0;
  unsigned count_ = 0;
};

struct Code {
  std::vector<Byte> lengths;
  std::vector<std::uint16_t> codes;

  Code(const std::vector<std::uint32_t>& counts, unsigned most_bits)
      : lengths(code_lengths(counts, most_bits)), codes(canonical_codes(lengths)) {}
  void put(LowBitsWriter& out, unsigned symbol) const { out.put_code(codes[symbol], lengths[symbol]); }
  /// Of symbols up to the last that is used, at least `least`.
  std::size_t count(std::size_t least) const { return std::max(least, used_symbols(lengths)); }
};

/// The code for a number within ranges that follow each other.
template <std::size_t Count>
unsigned range_of(const std::array<Range, Count>& ranges, std::uint32_t number, std::size_t used) {
  auto behind = std::upper_bound(ranges.begin(), ranges.begin() + static_cast<std::ptrdiff_t>(used), number,
                                 [](std::uint32_t one, const Range& range) { return one < range.base; });
  return static_cast<unsigned>(behind - ranges.begin()) - 1;
}
unsigned length_code(std::uint32_t length) {
  constexpr std::uint32_t kFirstLong = 259;  // longer ones have the last code
  constexpr std::size_t kLast = kLengthRanges.size() - 1;
  return length >= kFirstLong ? kLast : range_of(kLengthRanges, length, kLast);
}
unsigned distance_code(std::uint32_t distance) {
  return range_of(kDistanceRanges, distance, kDistanceRanges.size());
}

/// What symbols cost, in bits.
class Costs {
 public:
  Costs() : literals_(kLiterals, 8), distances_(kDistances, 5) {}
  Costs(const Code& literals, const Code& distances)
      : literals_(symbol_costs(literals.lengths)), distances_(symbol_costs(distances.lengths)) {}

  std::uint32_t literal(Byte one) const { return literals_[one]; }
  std::uint32_t copy(const Copy& copy) const {
    unsigned length = length_code(copy.length), distance = distance_code(copy.distance);
    return literals_[kEndOfBlock + 1 + length] + kLengthRanges[length].extra + distances_[distance] +
           kDistanceRanges[distance].extra;
  }

 private:
  std::vector<std::uint32_t> literals_, distances_;
};

/// Code lengths as they are written: runs of equal ones have symbols of their own (RFC 1951, 3.2.7).
struct LengthRow {
  unsigned symbol, extra, bits;
};
std::vector<LengthRow> rows_of(ByteView lengths) {
  std::vector<LengthRow> rows;
  for (std::size_t i = 0; i < lengths.size();) {
    std::size_t run = 1;
    while (i + run < lengths.size() && lengths[i + run] == lengths[i]) ++run;
    Byte length = lengths[i];
    i += run;
    if (length > 0) {
      rows.push_back({length, 0, 0});
      --run;
    }
    while (run > 0) {
      std::size_t part = length == 0 ? std::min<std::size_t>(run, 138) : std::min<std::size_t>(run, 6);
      if (part < 3) {
        part = 1;
        rows.push_back({length, 0, 0});
      } else {
        auto count = static_cast<unsigned>(part);
        rows.push_back(length > 0  ? LengthRow{16, count - 3, 2}
                       : part < 11 ? LengthRow{17, count - 3, 3}
                                   : LengthRow{18, count - 11, 7});
      }
      run -= part;
    }
  }
  return rows;
}

class Deflate64Packer final : public WindowPacker {
 public:
  explicit Deflate64Packer(StreamPtr plain)
      : WindowPacker(std::move(plain), kWindow, kBlock, {.farthest = kWindow, .longest = kLongestCopy}) {}

 private:
  Bytes pack_block(ByteView buffer, std::size_t begin, std::size_t end, MatchFinder& finder,
                   bool last) override {
    ByteView plain = buffer.subspan(begin, end - begin);
    CopyLists copies = find_copies(finder, begin, end, kNice, [end](std::size_t) { return end; });
    Costs costs;
    for (unsigned pass = 0;; ++pass) {
      std::vector<Copy> steps = cheapest_steps(plain, copies, kNice, costs);
      std::vector<std::uint32_t> literal_counts(kLiterals), distance_counts(kDistances);
      std::size_t at = 0;
      for (const Copy& step : steps) {
        ++literal_counts[step.length == 0 ? plain[at] : kEndOfBlock + 1 + length_code(step.length)];
        if (step.length > 0) ++distance_counts[distance_code(step.distance)];
        at += std::max(step.length, 1u);
      }
      literal_counts[kEndOfBlock] = 1;
      Code literals(literal_counts, kMostBits), distances(distance_counts, kMostBits);
      costs = Costs(literals, distances);
      if (pass + 1 < kPasses) continue;
      std::uint64_t bits = 0;
      at = 0;
      for (const Copy& step : steps) {
        bits += step.length == 0 ? costs.literal(plain[at]) : costs.copy(step);
        at += std::max(step.length, 1u);
      }
      out_.put(last ? 1 : 0, 1);
      bits / 8 < plain.size() || plain.empty() ? write_coded(plain, steps, literals, distances)
                                               : write_stored(plain);
      if (last) out_.align();
      return out_.take();
    }
  }

  void write_stored(ByteView plain) {
    out_.put(0, 2);
    out_.align();
    auto size = static_cast<std::uint32_t>(plain.size());
    out_.put(size, 16);
    out_.put(~size & 0xffff, 16);
    out_.put(plain);
  }

  void write_coded(ByteView plain, const std::vector<Copy>& steps, const Code& literals,
                   const Code& distances) {
    out_.put(2, 2);
    write_codes(literals, distances);
    std::size_t at = 0;
    for (const Copy& step : steps) {
      if (step.length == 0) {
        literals.put(out_, plain[at++]);
        continue;
      }
      at += step.length;
      unsigned length = length_code(step.length), distance = distance_code(step.distance);
      literals.put(out_, kEndOfBlock + 1 + length);
      out_.put(step.length - kLengthRanges[length].base, kLengthRanges[length].extra);
      distances.put(out_, distance);
      out_.put(step.distance - kDistanceRanges[distance].base, kDistanceRanges[distance].extra);
    }
    literals.put(out_, kEndOfBlock);
  }

  void write_codes(const Code& literals, const Code& distances) {
    std::size_t literal_count = literals.count(kEndOfBlock + 1), distance_count = distances.count(1);
    Bytes lengths(literals.lengths.begin(),
                  literals.lengths.begin() + static_cast<std::ptrdiff_t>(literal_count));
    lengths.insert(lengths.end(), distances.lengths.begin(),
                   distances.lengths.begin() + static_cast<std::ptrdiff_t>(distance_count));
    std::vector<LengthRow> rows = rows_of(lengths);
    std::vector<std::uint32_t> counts(kCodeLengthOrder.size());
    for (const LengthRow& row : rows) ++counts[row.symbol];
    Code code(counts, kMostLengthBits);
    std::size_t stated = kCodeLengthOrder.size();
    while (stated > 4 && code.lengths[kCodeLengthOrder[stated - 1]] == 0) --stated;
    out_.put(static_cast<std::uint32_t>(literal_count - 257), 5);
    out_.put(static_cast<std::uint32_t>(distance_count - 1), 5);
    out_.put(static_cast<std::uint32_t>(stated - 4), 4);
    for (std::size_t i = 0; i < stated; ++i) out_.put(code.lengths[kCodeLengthOrder[i]], 3);
    for (const LengthRow& row : rows) {
      code.put(out_, row.symbol);
      out_.put(row.extra, row.bits);
    }
  }

  LowBitsWriter out_;
};

}  // namespace

StreamPtr pack_deflate64(StreamPtr plain, const PackSettings&) {
  return std::make_unique<Deflate64Packer>(std::move(plain));
}

}  // namespace operculum
