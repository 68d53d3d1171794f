#include "codec/bzip2_splitter.h"

#include <array>

namespace operculum {
namespace {

constexpr std::uint64_t kMarkMask = (std::uint64_t{1} << 48) - 1;
constexpr std::size_t kHeader = 4;
constexpr std::size_t kFirstMark = kHeader + 6;  // where the first mark ends
constexpr std::size_t kLongestBlock = 4 << 20;   // 900,000 symbols of at most 20 bits, and tables

/// For the byte before the last one: the distances, as bits, from a mark's end to the last byte's end with
/// which it can belong to a mark.
constexpr std::array<Byte, 256> shifts_of(std::uint64_t mark) {
  std::array<Byte, 256> table{};
  for (unsigned shift = 0; shift < 8; ++shift) {
    auto byte = static_cast<std::size_t>((mark >> (8 - shift)) & 0xff);
    table[byte] = static_cast<Byte>(table[byte] | (1u << shift));
  }
  return table;
}
constexpr std::array<Byte, 256> kBlockShifts = shifts_of(kBzip2BlockMark),
                                kEndShifts = shifts_of(kBzip2EndMark);

}  // namespace

std::size_t Bzip2Splitter::feed(ByteView in) {
  std::size_t used = 0;
  while (used < in.size() && !block_ && !ended() && fault_ == Fault::none) feed_byte(in[used++]);
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
}

void Bzip2Splitter::feed_byte(Byte byte) {
  if (fed_ < kHeader) {
    feed_header(byte);
    ++fed_;
    return;
  }
  ++fed_;
  window_ = (window_ << 8) | byte;
  if (end_met_) {
    ++end_bytes_;
    return;
  }
  open_.push_back(byte);
  auto before = static_cast<std::size_t>((window_ >> 8) & 0xff);
  if (Byte shifts = kBlockShifts[before] | kEndShifts[before]; shifts != 0) {
    for (unsigned shift = 0; shift < 8; ++shift) {
      std::uint64_t bits = (window_ >> shift) & kMarkMask;
      if (bits == kBzip2BlockMark || bits == kBzip2EndMark) return meet_mark(shift, bits == kBzip2EndMark);
    }
  }
  if (fed_ == kFirstMark) fault_ = Fault::first_mark;
  if (open_.size() > kLongestBlock) fault_ = Fault::block_too_long;
}

void Bzip2Splitter::meet_mark(unsigned shift, bool end) {
  std::size_t mark_at = open_.size() * 8 - shift - 48;
  if (fed_ > kFirstMark) {
    std::size_t next = mark_at / 8;
    Bytes rest(open_.begin() + static_cast<std::ptrdiff_t>(next), open_.end());
    block_at_ = fed_ - open_.size();
    block_ = BitRun{std::move(open_), open_begin_, mark_at};
    open_ = std::move(rest);
  }
  open_begin_ = mark_at % 8;
  end_met_ = end;
  end_shift_ = shift;
}

}  // namespace operculum
