#include <algorithm>

#include "codec/lzss.h"
#include "codec/lzss_token.h"
#include "codec/match_finder.h"

namespace operculum {
namespace {

constexpr std::size_t kMostTried = 512;     // candidates at one place
constexpr std::size_t kLongestCopy = 4096;  // bytes; of dialects whose lengths go on

/// What the dialect can write.
MatchFinder::Reach reach_of(const LzssDialect& dialect, const LzssToken& token) {
  MatchFinder::Reach reach;
  std::uint64_t offsets = dialect.ring ? dialect.window - 1 : token.greatest_offset() + dialect.nearest;
  reach.farthest = std::min<std::uint64_t>(offsets, dialect.window - (dialect.ring ? 1 : 0));
  reach.nearest = dialect.ring ? 1 : std::max<std::uint64_t>(dialect.nearest, 1);
  reach.longest = dialect.longer == 0 ? static_cast<std::size_t>(token.greatest_length() + dialect.least)
                  : dialect.longer == 1
                      ? static_cast<std::size_t>(token.greatest_length() + dialect.least + 255)
                      : kLongestCopy;
  reach.most_tried = kMostTried;
  return reach;
}

/// Collects flags and what they announce.
class Writer {
 public:
  Writer(const LzssDialect& dialect, const LzssToken& token) : dialect_(dialect), token_(token) {}

  void literal(Byte b) {
    flag(dialect_.literal_flag);
    out_.push_back(b);
  }

  void copy(std::size_t at, const Copy& copy) {
    flag(!dialect_.literal_flag);
    std::uint64_t offset = dialect_.ring ? (dialect_.start + at - copy.distance) % dialect_.window
                                         : copy.distance - dialect_.nearest;
    std::uint64_t length = copy.length - dialect_.least;
    std::uint64_t field = dialect_.longer == 0 ? length : std::min(length, token_.greatest_length());
    put_token(token_.value_of(offset, field));
    if (dialect_.longer == 0 || field < token_.greatest_length()) return;
    std::uint64_t rest = length - field;
    for (; dialect_.longer == 2 && rest >= 255; rest -= 255) out_.push_back(255);
    out_.push_back(static_cast<Byte>(rest));
  }

  Bytes finish() {
    if (dialect_.stops) {
      flag(!dialect_.literal_flag);
      put_token(token_.value_of(0, 0));
    }
    store_flags();
    return std::move(out_);
  }

 private:
  void flag(bool value) {
    unsigned bits = 8 * dialect_.flag_bytes;
    if (used_ == bits) store_flags();
    if (used_ == 0) {
      flags_at_ = out_.size();
      out_.resize(out_.size() + dialect_.flag_bytes);
    }
    unsigned bit = dialect_.flags_from_low ? used_ : bits - 1 - used_;
    if (value) flags_ |= std::uint32_t{1} << bit;
    ++used_;
  }
  void store_flags() {
    for (unsigned i = 0; used_ > 0 && i < dialect_.flag_bytes; ++i)
      out_[flags_at_ + i] = static_cast<Byte>(flags_ >> (8 * i));
    used_ = 0;
    flags_ = 0;
  }
  void put_token(std::uint64_t value) {
    for (unsigned i = token_.bytes; i-- > 0;) out_.push_back(static_cast<Byte>(value >> (8 * i)));
  }

  const LzssDialect& dialect_;
  const LzssToken& token_;
  Bytes out_;
  std::size_t flags_at_ = 0;
  std::uint32_t flags_ = 0;
  unsigned used_ = 0;
};

}  // namespace

Bytes pack_lzss(ByteView plain, const LzssDialect& dialect) {
  check_dialect(dialect);
  LzssToken token(dialect.token);
  MatchFinder finder(plain, reach_of(dialect, token));
  std::vector<Copy> longest(plain.size());
  for (std::size_t i = 0; i < plain.size(); ++i) {
    finder.find(i, plain.size(), [&](const Copy& copy) { longest[i] = copy; });
    if (longest[i].length < dialect.least) longest[i] = {};
  }
  // From the end on: the fewest bits for what is left, when a copy may be as short as the dialect allows.
  constexpr std::uint64_t kLiteralBits = 9;
  std::uint64_t copy_bits = 8 * token.bytes + 1;
  std::uint64_t greatest = token.greatest_length() + dialect.least;
  std::vector<std::uint64_t> bits(plain.size() + 1);
  std::vector<std::uint32_t> chosen(plain.size());
  for (std::size_t i = plain.size(); i-- > 0;) {
    bits[i] = bits[i + 1] + kLiteralBits;
    for (std::uint64_t length = dialect.least; length <= longest[i].length && length > 0; ++length) {
      bool goes_on = dialect.longer != 0 && length >= greatest;
      std::uint64_t more = goes_on ? 8 * (dialect.longer == 2 ? (length - greatest) / 255 + 1 : 1) : 0;
      bool offset_zero = dialect.ring ? (dialect.start + i - longest[i].distance) % dialect.window == 0
                                      : longest[i].distance == dialect.nearest;
      bool stop_mark = dialect.stops && length == dialect.least && offset_zero;
      std::uint64_t cost = copy_bits + more + bits[i + static_cast<std::size_t>(length)];
      if (stop_mark || cost >= bits[i]) continue;
      bits[i] = cost;
      chosen[i] = static_cast<std::uint32_t>(length);
    }
  }
  Writer writer(dialect, token);
  for (std::size_t i = 0; i < plain.size();) {
    if (chosen[i] == 0) {
      writer.literal(plain[i++]);
      continue;
    }
    writer.copy(i, {chosen[i], longest[i].distance});
    i += chosen[i];
  }
  return writer.finish();
}

}  // namespace operculum
