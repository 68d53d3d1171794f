// Imploding (APPNOTE 5.3): LZ77 with a window of 4 or 8 KiB; the codes are told in front of the data.
//
//   tree of literals (only with three trees), tree of lengths, tree of distances
//   then items: bit 1 and a literal, or bit 0, the low bits of a distance, the code of its upper 6 bits, and
//   the code of a length, which at 63 goes on in another byte
//
// A tree: a byte with the number of bytes that follow less one; each of these says with its low four bits how
// long codes are and with its high four how many symbols in a row have such ones, both less one.
#include <utility>

#include "codec/decoders.h"
#include "codec/inverted_code.h"
#include "codec/window_stream.h"

namespace operculum {
namespace {

constexpr unsigned kLiterals = 256, kLengths = 64, kDistances = 64;
constexpr std::size_t kLargeWindow = 8192;
constexpr unsigned kSmallWindowBits = 6, kLargeWindowBits = 7;  // of a distance's low part

class ImplodeStream final : public WindowStream {
 public:
  ImplodeStream(StreamPtr packed, std::uint8_t flags, std::optional<std::uint64_t> size)
      : WindowStream(kLargeWindow, size),
        bits_(std::move(packed), "imploded"),
        low_bits_((flags & implode_large_window) != 0 ? kLargeWindowBits : kSmallWindowBits),
        three_trees_((flags & implode_three_trees) != 0) {}

 private:
  bool next() override {
    if (!std::exchange(begun_, true)) read_trees();
    if (!size_known() && !bits_.has(1 + 8)) return false;
    if (bits_.take(1) == 1) {
      literal(static_cast<Byte>(three_trees_ ? literals_.decode(bits_) : bits_.take(8)));
      return true;
    }
    unsigned low = bits_.take(low_bits_);
    std::uint64_t distance = (distances_.decode(bits_) << low_bits_ | low) + 1;
    unsigned length = lengths_.decode(bits_);
    if (length == kLengths - 1) length += bits_.take(8);
    copy(distance, length + (three_trees_ ? 3 : 2));
    return true;
  }

  void read_trees() {
    if (three_trees_) read_tree(literals_, kLiterals);
    read_tree(lengths_, kLengths);
    read_tree(distances_, kDistances);
  }

  void read_tree(InvertedCode& code, unsigned symbols) {
    std::vector<Byte> lengths;
    for (unsigned rows = bits_.take(8) + 1; rows > 0; --rows) {
      auto length = static_cast<Byte>(bits_.take(4) + 1);
      lengths.insert(lengths.end(), bits_.take(4) + 1, length);
    }
    if (lengths.size() != symbols || !code.build(lengths))
      bits_.damaged(fmt::format("a tree of {} codes where {} were expected", lengths.size(), symbols));
  }

  LowBits bits_;
  unsigned low_bits_;
  bool three_trees_, begun_ = false;
  InvertedCode literals_, lengths_, distances_;
};

}  // namespace

StreamPtr open_implode(StreamPtr packed, const CodecOptions& options) {
  std::uint8_t flags = options.properties.empty() ? std::uint8_t{0} : options.properties[0];
  return std::make_unique<ImplodeStream>(std::move(packed), flags, options.unpacked_size);
}

}  // namespace operculum
