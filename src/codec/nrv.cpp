#include "codec/nrv.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/error.h"
#include "codec/window_stream.h"
#include "io/input_buffer.h"

namespace operculum {
namespace {

constexpr std::size_t kWindow = std::size_t{16} << 20;
constexpr std::uint64_t kMostNumber = std::uint64_t{1} << 33;  // a gamma code beyond it is damage
constexpr std::uint64_t kEndMark = 0xffffffff;

class NrvStream final : public WindowStream {
 public:
  NrvStream(StreamPtr packed, const NrvDialect& dialect, std::optional<std::uint64_t> size)
      : WindowStream(std::bit_ceil(std::min<std::uint64_t>(kWindow, size.value_or(kWindow))), size),
        input_(std::move(packed)),
        dialect_(dialect) {}

 private:
  bool next() override {
    if (ended_) return false;
    if (bit() == 1) {
      literal(byte());
      return true;
    }
    std::uint64_t number = upper_part(), length_bit = 0;
    bool known_bit = dialect_.form != NrvForm::b;  // the first bit of the length lies in the distance
    if (number == 2) {
      if (known_bit) length_bit = bit();
    } else {
      std::uint64_t distance = (number - 3) * 256 + byte();
      if (distance == kEndMark) {
        ended_ = true;
        return false;
      }
      if (known_bit) {
        length_bit = ~distance & 1;
        distance >>= 1;
      }
      distance_ = distance + 1;
    }
    if (distance_ > made() || distance_ > kWindow) damaged("a copy from before the start");
    std::uint64_t length = dialect_.form == NrvForm::b   ? plain_length(bit())
                           : dialect_.form == NrvForm::d ? plain_length(length_bit)
                                                         : short_length(length_bit);
    std::uint64_t far = dialect_.form == NrvForm::b ? 0xd00 : 0x500;
    copy(distance_, length + (distance_ > far ? 1 : 0) + 1);
    return true;
  }

  /// 2 stands for the distance before.
  std::uint64_t upper_part() {
    std::uint64_t number = 1;
    for (;;) {
      number = 2 * number + bit();
      if (number > kMostNumber) damaged("a distance that cannot be");
      if (bit() == 1) return number;
      if (dialect_.form != NrvForm::b) number = 2 * (number - 1) + bit();
    }
  }
  std::uint64_t gamma() {
    std::uint64_t number = 1;
    do {
      number = 2 * number + bit();
      if (number > kMostNumber) damaged("a length that cannot be");
    } while (bit() == 0);
    return number;
  }
  std::uint64_t plain_length(std::uint64_t first_bit) {
    std::uint64_t length = 2 * first_bit + bit();
    return length != 0 ? length : gamma() + 2;
  }
  std::uint64_t short_length(std::uint64_t first_bit) {
    if (first_bit != 0) return 1 + bit();
    return bit() == 1 ? 3 + bit() : gamma() + 3;
  }

  std::uint64_t bit() {
    if (count_ == 0) {
      word_ = 0;
      for (; count_ < dialect_.word; count_ += 8) word_ |= std::uint32_t{byte()} << count_;
    }
    return word_ >> --count_ & 1;
  }
  Byte byte() {
    ByteView in = input_.view();
    if (in.empty()) throw CutShort("nrv data: the data ends too early; it is cut short");
    Byte value = in[0];
    input_.consume(1);
    return value;
  }
  [[noreturn]] static void damaged(std::string_view what) {
    throw Malformed(fmt::format("nrv data: {}; the data is damaged", what));
  }

  InputBuffer input_;
  NrvDialect dialect_;
  std::uint32_t word_ = 0;
  unsigned count_ = 0;
  std::uint64_t distance_ = 1;
  bool ended_ = false;
};

}  // namespace

StreamPtr open_nrv(StreamPtr packed, const NrvDialect& dialect, std::optional<std::uint64_t> size) {
  if (dialect.word != 8 && dialect.word != 16 && dialect.word != 32)
    throw Malformed(fmt::format("nrv: words of {} bits; 8, 16 and 32 are known", dialect.word));
  return std::make_unique<NrvStream>(std::move(packed), dialect, size);
}

}  // namespace operculum
