#include "codec/bzip2_splitter.h"

#include <algorithm>
#include <array>

namespace operculum {
namespace {

constexpr std::uint64_t kMarkMask = (std::uint64_t{1} << 48) - 1;
constexpr std::size_t kHeader = 4;
constexpr std::size_t kFirstMark = kHeader + 6;  // where the first mark ends
constexpr std::size_t kLongestBlock = 4 << 20;   // 900,000 symbols of at most 20 bits, and tables

/// Whether a mark can have this byte as the one before the byte in which it ends.
constexpr std::array<bool, 256> make_candidates() {
  std::array<bool, 256> table{};
  for (std::uint64_t mark : {kBzip2BlockMark, kBzip2EndMark})
    for (unsigned shift = 0; shift < 8; ++shift)
      table[static_cast<std::size_t>((mark >> (8 - shift)) & 0xff)] = true;
  return table;
}
constexpr std::array<bool, 256> kCandidates = make_candidates();

}  // namespace

std::size_t Bzip2Splitter::feed(ByteView in) {
  std::size_t used = 0;
  while (used < in.size() && fed_ < kHeader && fault_ == Fault::none) feed_header(in[used++]);
  if (!end_met_ && !block_ && fault_ == Fault::none) used += feed_blocks(in.subspan(used));
  for (; used < in.size() && end_met_ && !ended(); ++used, ++fed_, ++end_bytes_)
    window_ = (window_ << 8) | in[used];
  return used;
}

std::optional<BitRun> Bzip2Splitter::take_block() {
  std::optional<BitRun> block = std::move(block_);
  block_.reset();
  return block;
}

std::optional<BitRun> Bzip2Splitter::take_rest() {
  constexpr std::size_t kFront = 48 + 32;  // bits: the mark and the checksum
  std::size_t end = open_.size() * 8;
  if (end_met_ || end < open_begin_ + kFront) return std::nullopt;
  block_at_ = fed_ - open_.size();
  return BitRun{std::move(open_), open_begin_, end};
}

void Bzip2Splitter::feed_header(Byte byte) {
  constexpr std::string_view kMark = "BZh";
  std::size_t at = fed_;
  bool fits = at < kMark.size() ? byte == static_cast<Byte>(kMark[at]) : byte >= '1' && byte <= '9';
  if (!fits) fault_ = Fault::header;
  level_ = static_cast<char>(byte);
  ++fed_;
}

std::size_t Bzip2Splitter::feed_blocks(ByteView in) {
  std::size_t most = fed_ < kFirstMark ? kFirstMark - fed_ : kLongestBlock + 1 - open_.size();
  in = in.first(std::min(in.size(), most));
  std::size_t used = 0;
  Mark met{};
  while (used < in.size() && !met.found) {
    auto before = static_cast<std::size_t>(window_ & 0xff);
    window_ = (window_ << 8) | in[used++];
    if (kCandidates[before]) met = find_mark();
  }
  open_.insert(open_.end(), in.begin(), in.begin() + static_cast<std::ptrdiff_t>(used));
  fed_ += used;
  if (met.found) {
    meet_mark(met);
  } else if (fed_ == kFirstMark) {
    fault_ = Fault::first_mark;
  } else if (open_.size() > kLongestBlock) {
    fault_ = Fault::block_too_long;
  }
  return used;
}

Bzip2Splitter::Mark Bzip2Splitter::find_mark() const {
  for (unsigned shift = 0; shift < 8; ++shift) {
    std::uint64_t bits = (window_ >> shift) & kMarkMask;
    if (bits == kBzip2BlockMark || bits == kBzip2EndMark) return {true, bits == kBzip2EndMark, shift};
  }
  return {};
}

void Bzip2Splitter::meet_mark(Mark mark) {
  std::size_t mark_at = open_.size() * 8 - mark.shift - 48;
  if (fed_ > kFirstMark) {
    std::size_t next = mark_at / 8;
    Bytes rest(open_.begin() + static_cast<std::ptrdiff_t>(next), open_.end());
    block_at_ = fed_ - open_.size();
    block_ = BitRun{std::move(open_), open_begin_, mark_at};
    open_ = std::move(rest);
  }
  open_begin_ = mark_at % 8;
  end_met_ = mark.end;
  end_shift_ = mark.shift;
}

}  // namespace operculum
