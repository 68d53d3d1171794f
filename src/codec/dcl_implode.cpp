// Imploding as a stream of its own (method 10 of ZIP; described by B. Rudiak-Gould, 2001): LZ77 with constant
// codes and an end mark.
//
//   u8 literals are 0: bytes, 1: coded; u8 bits of a distance's low part, 4 to 6
//   then items: bit 0 and a literal, or bit 1, the code of a length with extra bits, and the code of a
//   distance's upper 6 bits with its low ones, 2 of them behind copies of 2 bytes; length 519 ends the data
#include <utility>

#include "codec/decoders.h"
#include "codec/inverted_code.h"
#include "codec/window_stream.h"

namespace operculum {
namespace {

constexpr std::size_t kWindow = 4096;
constexpr unsigned kEndLength = 519, kShortCopy = 2, kShortCopyBits = 2;

/// Code lengths of symbols in a row: how many, and how long.
struct Row {
  std::uint8_t count, length;
};
// clang-format off
constexpr Row kLiteralRows[] = {
    {1, 11}, {8, 12}, {1, 8}, {1, 7}, {2, 12}, {1, 7}, {12, 12}, {1, 13}, {5, 12}, {1, 4}, {1, 10},
    {1, 8}, {1, 12}, {1, 10}, {1, 12}, {1, 10}, {1, 8}, {2, 7}, {1, 8}, {1, 9}, {1, 7}, {1, 6}, {1, 7},
    {1, 8}, {1, 7}, {1, 6}, {4, 7}, {1, 8}, {2, 7}, {2, 8}, {1, 12}, {1, 11}, {1, 7}, {1, 9}, {1, 11},
    {1, 12}, {1, 6}, {1, 7}, {2, 6}, {1, 5}, {1, 7}, {2, 8}, {1, 6}, {1, 11}, {1, 9}, {1, 6}, {1, 7},
    {2, 6}, {1, 7}, {1, 11}, {3, 6}, {1, 7}, {1, 9}, {1, 8}, {2, 9}, {1, 11}, {1, 8}, {1, 11}, {1, 9},
    {1, 12}, {1, 8}, {1, 12}, {1, 5}, {3, 6}, {1, 5}, {3, 6}, {1, 5}, {1, 11}, {1, 7}, {1, 5}, {1, 6},
    {2, 5}, {1, 6}, {1, 10}, {4, 5}, {1, 8}, {1, 7}, {2, 8}, {1, 10}, {2, 11}, {3, 12}, {48, 13},
    {48, 12}, {1, 13}, {1, 12}, {3, 13}, {1, 12}, {3, 13}, {1, 12}, {4, 13}, {1, 12}, {3, 13}, {3, 12},
    {11, 13}};
constexpr Row kLengthRows[] = {{1, 2}, {3, 3}, {3, 4}, {4, 5}, {3, 6}, {2, 7}};
constexpr Row kDistanceRows[] = {{1, 2}, {2, 4}, {4, 5}, {15, 6}, {16, 7}, {10, 7}, {16, 8}};
// clang-format on

struct LengthRange {
  unsigned base, extra;
};
constexpr LengthRange kLengths[] = {{3, 0},  {2, 0},  {4, 0},  {5, 0},  {6, 0},  {7, 0},  {8, 0},   {9, 0},
                                    {10, 1}, {12, 2}, {16, 3}, {24, 4}, {40, 5}, {72, 6}, {136, 7}, {264, 8}};

InvertedCode code_of(std::span<const Row> rows) {
  std::vector<Byte> lengths;
  for (const Row& row : rows) lengths.insert(lengths.end(), row.count, row.length);
  InvertedCode code;
  if (!code.build(lengths)) throw Malformed("imploded data: these codes cannot be");
  return code;
}

struct Codes {
  InvertedCode literals = code_of(kLiteralRows), lengths = code_of(kLengthRows),
               distances = code_of(kDistanceRows);
};
const Codes& codes() {
  static const Codes kCodes;
  return kCodes;
}

class DclImplodeStream final : public WindowStream {
 public:
  DclImplodeStream(StreamPtr packed, std::optional<std::uint64_t> size)
      : WindowStream(kWindow, size), bits_(std::move(packed), "imploded") {}

 private:
  bool next() override {
    if (!std::exchange(begun_, true)) read_header();
    if (ended_) return false;
    if (bits_.take(1) == 0) {
      literal(static_cast<Byte>(coded_ ? codes().literals.decode(bits_) : bits_.take(8)));
      return true;
    }
    const LengthRange& range = kLengths[codes().lengths.decode(bits_)];
    unsigned length = range.base + bits_.take(range.extra);
    if (length == kEndLength) {
      ended_ = true;
      return false;
    }
    unsigned low_bits = length == kShortCopy ? kShortCopyBits : low_bits_;
    std::uint64_t distance = codes().distances.decode(bits_) << low_bits;
    distance += bits_.take(low_bits) + 1;
    if (distance > made()) bits_.damaged("a copy from before the start");
    copy(distance, length);
    return true;
  }

  void read_header() {
    unsigned literals = bits_.take(8);
    low_bits_ = bits_.take(8);
    if (literals > 1 || low_bits_ < 4 || low_bits_ > 6)
      bits_.damaged(fmt::format("a header of {:02x} {:02x}", literals, low_bits_));
    coded_ = literals == 1;
  }

  LowBits bits_;
  unsigned low_bits_ = 0;
  bool begun_ = false, coded_ = false, ended_ = false;
};

}  // namespace

StreamPtr open_dcl_implode(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<DclImplodeStream>(std::move(packed), options.unpacked_size);
}

}  // namespace operculum
