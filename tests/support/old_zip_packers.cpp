#include "support/old_zip_packers.h"

#include <algorithm>
#include <array>
#include <bit>
#include <map>
#include <set>
#include <string_view>

#include "support/bit_writer.h"
#include "support/lz_items.h"

namespace operculum::test {
namespace {

/// The codes of lengths, all of their bits inverted.
class InvertedCodes {
 public:
  explicit InvertedCodes(std::vector<Byte> lengths)
      : lengths_(std::move(lengths)), codes_(canonical_codes(lengths_)) {}
  void put(BitWriter& out, std::size_t symbol) const {
    out.code(codes_[symbol] ^ ((1u << lengths_[symbol]) - 1), lengths_[symbol]);
  }
  /// As imploded data tells them: runs of equal lengths.
  void put_tree(BitWriter& out) const {
    std::vector<std::pair<unsigned, unsigned>> rows;  // count, length
    for (Byte length : lengths_) {
      if (!rows.empty() && rows.back().second == length && rows.back().first < 16) {
        ++rows.back().first;
      } else {
        rows.emplace_back(1, length);
      }
    }
    out.put(static_cast<std::uint32_t>(rows.size() - 1), 8);
    for (auto [count, length] : rows) out.put(length - 1, 4).put(count - 1, 4);
  }

 private:
  std::vector<Byte> lengths_;
  std::vector<std::uint32_t> codes_;
};

/// The lengths of the constant codes of literals, as they are published, a digit of base 16 each.
constexpr std::string_view kDclLiterals =
    "bcccccccc87cc7ccccccccccccdccccc4a8caca87789767876777787788cb79b"
    "c676657886b967667b66679899b8b9c8c566656665b756556a55558788abbccc"
    "ddddddddddddddddddddddddddddddddddddddddddddddddcccccccccccccccc"
    "ccccccccccccccccccccccccccccccccdcdddcdddcddddcdddcccddddddddddd";

/// Codes for all symbols, also those that never come: each is counted once more than it occurs.
std::vector<Byte> lengths_for(std::vector<std::size_t> counts) {
  for (std::size_t& count : counts) ++count;
  return code_lengths(counts, 15);
}

}  // namespace

Bytes pack_shrink(ByteView plain, bool clears) {
  constexpr unsigned kFirst = 257, kMost = 8192;
  BitWriter out;
  std::map<std::pair<unsigned, Byte>, unsigned> table;  // a string's code and a byte behind it
  std::map<unsigned, std::pair<unsigned, Byte>> strings;
  unsigned width = 9, current = 256;
  auto emit = [&](unsigned code) {
    while (code >= 1u << width) {
      out.put(256, width).put(1, width);
      ++width;
    }
    out.put(code, width);
  };
  auto first_free = [&] {
    unsigned code = kFirst;
    while (strings.contains(code)) ++code;
    return code;
  };
  unsigned free = kFirst;
  for (Byte byte : plain) {
    if (current == 256) {
      current = byte;
      continue;
    }
    if (auto found = table.find({current, byte}); found != table.end()) {
      current = found->second;
      continue;
    }
    emit(current);
    while (free < kMost && strings.contains(free)) ++free;
    if (free < kMost) {
      table[{current, byte}] = free;
      strings[free] = {current, byte};
    } else if (clears) {
      out.put(256, width).put(2, width);
      std::set<unsigned> parents;
      for (const auto& [code, string] : strings) parents.insert(string.first);
      std::erase_if(strings, [&](const auto& one) { return !parents.contains(one.first); });
      std::erase_if(table, [&](const auto& one) { return !strings.contains(one.second); });
      free = first_free();
      // the decoder adds a string with the next code, whatever it is
      table[{current, byte}] = free;
      strings[free] = {current, byte};
    }
    current = byte;
  }
  if (current != 256) emit(current);
  return out.take();
}

Bytes pack_reduce(ByteView plain, unsigned factor) {
  constexpr Byte kMark = 144;
  const unsigned length_bits = 8 - factor, longest_short = (1u << length_bits) - 1;
  Bytes bytes;
  for (const LzItem& item : find_copies(
           plain, {.window = std::size_t{256} << factor, .least = 4, .longest = 255 + longest_short + 3})) {
    if (item.length == 0) {
      bytes.push_back(item.literal);
      if (item.literal == kMark) bytes.push_back(0);
      continue;
    }
    auto length = static_cast<unsigned>(item.length - 3), distance = static_cast<unsigned>(item.distance - 1);
    bytes.push_back(kMark);
    bytes.push_back(static_cast<Byte>((distance >> 8) << length_bits | std::min(length, longest_short)));
    if (length >= longest_short) bytes.push_back(static_cast<Byte>(length - longest_short));
    bytes.push_back(static_cast<Byte>(distance & 0xff));
  }
  std::array<std::array<std::size_t, 256>, 256> counts{};
  for (std::size_t i = 0; i < bytes.size(); ++i) ++counts[i == 0 ? 0 : bytes[i - 1]][bytes[i]];
  std::array<Bytes, 256> followers;
  for (unsigned i = 0; i < 256; ++i) {
    for (unsigned j = 0; j < 256; ++j)
      if (counts[i][j] > 0) followers[i].push_back(static_cast<Byte>(j));
    std::stable_sort(followers[i].begin(), followers[i].end(),
                     [&](Byte a, Byte b) { return counts[i][a] > counts[i][b]; });
    followers[i].resize(std::min<std::size_t>(followers[i].size(), 1 + i % 32));
  }
  BitWriter out;
  for (unsigned i = 256; i-- > 0;) {
    out.put(static_cast<std::uint32_t>(followers[i].size()), 6);
    for (Byte one : followers[i]) out.put(one, 8);
  }
  Byte last = 0;
  for (Byte byte : bytes) {
    const Bytes& known = followers[last];
    auto found = std::find(known.begin(), known.end(), byte);
    if (known.empty()) {
      out.put(byte, 8);
    } else if (found == known.end()) {
      out.put(1, 1).put(byte, 8);
    } else {
      unsigned bits = known.size() <= 2 ? 1 : static_cast<unsigned>(std::bit_width(known.size() - 1));
      out.put(0, 1).put(static_cast<std::uint32_t>(found - known.begin()), bits);
    }
    last = byte;
  }
  return out.take();
}

Bytes pack_implode(ByteView plain, unsigned flags) {
  const bool large = (flags & 2) != 0, three = (flags & 4) != 0;
  const unsigned low_bits = large ? 7 : 6;
  const std::size_t least = three ? 3 : 2;
  auto items = find_copies(plain, {.window = large ? 8192u : 4096u,
                                   .least = std::max<std::size_t>(least, 3),
                                   .longest = 63 + 255 + least});
  std::vector<std::size_t> literals(256), lengths(64), distances(64);
  for (const LzItem& item : items) {
    if (item.length == 0) {
      ++literals[item.literal];
    } else {
      ++lengths[std::min<std::size_t>(item.length - least, 63)];
      ++distances[(item.distance - 1) >> low_bits];
    }
  }
  InvertedCodes literal_codes(lengths_for(literals)), length_codes(lengths_for(lengths)),
      distance_codes(lengths_for(distances));
  BitWriter out;
  if (three) literal_codes.put_tree(out);
  length_codes.put_tree(out);
  distance_codes.put_tree(out);
  for (const LzItem& item : items) {
    if (item.length == 0) {
      out.put(1, 1);
      if (three) {
        literal_codes.put(out, item.literal);
      } else {
        out.put(item.literal, 8);
      }
      continue;
    }
    auto distance = static_cast<std::uint32_t>(item.distance - 1);
    std::size_t length = item.length - least;
    out.put(0, 1).put(distance & ((1u << low_bits) - 1), low_bits);
    distance_codes.put(out, distance >> low_bits);
    length_codes.put(out, std::min<std::size_t>(length, 63));
    if (length >= 63) out.put(static_cast<std::uint32_t>(length - 63), 8);
  }
  return out.take();
}

Bytes pack_dcl_implode(ByteView plain, bool coded_literals, unsigned window_bits) {
  std::vector<Byte> length_lengths = {2, 3, 3, 3, 4, 4, 4, 5, 5, 5, 5, 6, 6, 6, 7, 7}, distance_lengths;
  for (auto [count, length] : {std::pair{1, 2}, {2, 4}, {4, 5}, {15, 6}, {26, 7}, {16, 8}})
    distance_lengths.insert(distance_lengths.end(), static_cast<std::size_t>(count),
                            static_cast<Byte>(length));
  std::vector<Byte> literal_lengths;
  for (char digit : kDclLiterals)
    literal_lengths.push_back(static_cast<Byte>(digit <= '9' ? digit - '0' : digit - 'a' + 10));
  InvertedCodes literals(literal_lengths), lengths(length_lengths), distances(distance_lengths);
  constexpr unsigned kBases[] = {3, 2, 4, 5, 6, 7, 8, 9, 10, 12, 16, 24, 40, 72, 136, 264};
  constexpr unsigned kExtra[] = {0, 0, 0, 0, 0, 0, 0, 0, 1, 2, 3, 4, 5, 6, 7, 8};
  BitWriter out;
  out.put(coded_literals ? 1 : 0, 8).put(window_bits, 8);
  auto put_length = [&](unsigned length) {
    unsigned symbol = 0;
    for (unsigned i = 0; i < 16; ++i)
      if (length >= kBases[i] && length < kBases[i] + (1u << kExtra[i])) symbol = i;
    lengths.put(out, symbol);
    out.put(length - kBases[symbol], kExtra[symbol]);
  };
  for (const LzItem& item :
       find_copies(plain, {.window = std::size_t{64} << window_bits, .least = 3, .longest = 518})) {
    if (item.length == 0) {
      out.put(0, 1);
      if (coded_literals) {
        literals.put(out, item.literal);
      } else {
        out.put(item.literal, 8);
      }
      continue;
    }
    out.put(1, 1);
    put_length(static_cast<unsigned>(item.length));
    auto distance = static_cast<std::uint32_t>(item.distance - 1);
    distances.put(out, distance >> window_bits);
    out.put(distance & ((1u << window_bits) - 1), window_bits);
  }
  out.put(1, 1);
  put_length(519);
  return out.take();
}

}  // namespace operculum::test
