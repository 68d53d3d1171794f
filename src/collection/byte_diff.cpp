#include "collection/byte_diff.h"

#include <algorithm>

namespace operculum {
namespace {

constexpr std::size_t kBlock = 256 << 10;  // bytes held against each other at a time
constexpr std::size_t kHexLine = 8;

class ByteDiffer {
 public:
  ByteDiffer(Stream& before, Stream& after, const std::function<void(std::uint64_t)>& watch)
      : before_(before), after_(after), watch_(watch) {}

  ByteDiff run() {
    Bytes ours(kBlock), theirs(kBlock);
    std::size_t our_count = kBlock, their_count = kBlock;
    while (our_count > 0 || their_count > 0) {
      our_count = our_count == kBlock ? read_fully(before_, ours) : 0;
      their_count = their_count == kBlock ? read_fully(after_, theirs) : 0;
      compare(ByteView(ours).first(our_count), ByteView(theirs).first(their_count));
      watch_(our_count + their_count);
    }
    close_range(std::min(out_.before_size, out_.after_size));
    return std::move(out_);
  }

 private:
  void compare(ByteView ours, ByteView theirs) {
    std::size_t both = std::min(ours.size(), theirs.size());
    std::uint64_t at = out_.before_size;
    for (std::size_t i = 0; i < both;) {
      if (!in_range_) {
        i = static_cast<std::size_t>(std::mismatch(ours.begin() + static_cast<std::ptrdiff_t>(i),
                                                   ours.begin() + static_cast<std::ptrdiff_t>(both),
                                                   theirs.begin() + static_cast<std::ptrdiff_t>(i))
                                         .first -
                                     ours.begin());
        if (i == both) break;
        open_range(at + i);
      }
      for (; i < both && ours[i] != theirs[i]; ++i) ++out_.differing;
      if (i < both) close_range(at + i);
    }
    bool one_ends = ours.size() != theirs.size();
    if (one_ends && !shown_) show_from(at + both);
    keep_shown(ours, at, out_.before_bytes);
    keep_shown(theirs, out_.after_size, out_.after_bytes);
    keep_last(ours, last_ours_);
    keep_last(theirs, last_theirs_);
    out_.before_size += ours.size();
    out_.after_size += theirs.size();
  }

  void open_range(std::uint64_t at) {
    in_range_ = true;
    begin_ = at;
    if (!shown_) show_from(at);
  }

  void close_range(std::uint64_t at) {
    if (!in_range_) return;
    in_range_ = false;
    ++out_.range_count;
    if (out_.ranges.size() < ByteDiff::kKeptRanges) out_.ranges.push_back({begin_, at});
  }

  /// The excerpt begins a line ahead of the first difference where there is one, which may lie in the block
  /// before.
  void show_from(std::uint64_t at) {
    shown_ = true;
    std::uint64_t line = at / kHexLine * kHexLine;
    out_.shown_at = line - std::min<std::uint64_t>(line, kHexLine);
    std::uint64_t block_at = out_.before_size;
    if (out_.shown_at < block_at) {
      auto missing = static_cast<std::size_t>(block_at - out_.shown_at);
      out_.before_bytes.assign(last_ours_.end() - static_cast<std::ptrdiff_t>(missing), last_ours_.end());
      out_.after_bytes.assign(last_theirs_.end() - static_cast<std::ptrdiff_t>(missing), last_theirs_.end());
    }
  }

  void keep_shown(ByteView block, std::uint64_t block_at, Bytes& kept) const {
    if (!shown_ || kept.size() >= ByteDiff::kShown) return;
    std::uint64_t next = out_.shown_at + kept.size();
    if (next < block_at || next >= block_at + block.size()) return;
    ByteView rest = block.subspan(static_cast<std::size_t>(next - block_at));
    rest = rest.first(std::min(rest.size(), ByteDiff::kShown - kept.size()));
    kept.insert(kept.end(), rest.begin(), rest.end());
  }

  static void keep_last(ByteView block, Bytes& last) {
    ByteView end = block.last(std::min<std::size_t>(block.size(), 2 * kHexLine));
    last.assign(end.begin(), end.end());
  }

  Stream& before_;
  Stream& after_;
  const std::function<void(std::uint64_t)>& watch_;
  ByteDiff out_;
  Bytes last_ours_, last_theirs_;  // the ends of the blocks before
  bool in_range_ = false, shown_ = false;
  std::uint64_t begin_ = 0;
};

}  // namespace

ByteDiff diff_bytes(Stream& before, Stream& after, const std::function<void(std::uint64_t)>& watch) {
  return ByteDiffer(before, after, watch).run();
}

}  // namespace operculum
