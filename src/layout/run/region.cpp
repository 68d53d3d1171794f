#include "layout/run/region.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/error.h"
#include "base/text.h"

namespace operculum::layout {

/// Rows that lie far from each other share a place; which ones looks random, so that two that are read in
/// turn hardly ever do.
std::size_t Region::place_of(std::uint64_t page) const {
  std::uint64_t row = page / kAhead, rows = held_.size() / kAhead;
  if (rows == kPages / kAhead) {
    constexpr unsigned kBits = std::bit_width(kPages / kAhead) - 1;
    row = (row * 0x9E3779B97F4A7C15) >> (64 - kBits);
  }
  return static_cast<std::size_t>(row % rows * kAhead + page % kAhead);
}

ByteView Region::elsewhere(std::uint64_t offset, std::uint64_t count) {
  if (offset > size_ || count > size_ - offset) fail(offset, count);
  std::uint64_t page = offset / kPage, within = offset % kPage;
  if (held_.empty()) {
    std::uint64_t rows = (size_ + kPage * kAhead - 1) / (kPage * kAhead);
    held_.resize(static_cast<std::size_t>(std::clamp<std::uint64_t>(rows * kAhead, kAhead, kPages)),
                 UINT64_MAX);
    pages_ = std::make_unique_for_overwrite<Byte[]>(held_.size() * kPage);
  }
  std::size_t place = place_of(page), last = place;
  if (within + count <= (kAhead - page % kAhead) * kPage) {
    if (held_[place] != page) read_pages(page);
    while ((last + 1) % kAhead != 0 && held_[last + 1] == page + (last + 1 - place)) ++last;
    recent_begin_ = page * kPage;
    std::uint64_t length = std::min<std::uint64_t>((last + 1 - place) * kPage, size_ - recent_begin_);
    recent_ = ByteView(pages_.get() + place * kPage, static_cast<std::size_t>(length));
    if (within + count <= length)
      return recent_.subspan(static_cast<std::size_t>(within), static_cast<std::size_t>(count));
  }
  across_ = read_exactly(*source_, offset, count, "the container");
  return across_;
}

void Region::read_pages(std::uint64_t page) {
  recent_ = {};  // it may be what is read over
  std::size_t place = place_of(page);
  auto run = std::find(next_.begin(), next_.end(), page);
  bool runs_on = run != next_.end();
  std::size_t wanted = runs_on ? kAhead - place % kAhead : 1;
  std::uint64_t begin = page * kPage, length = std::min<std::uint64_t>(wanted * kPage, size_ - begin);
  std::fill_n(held_.begin() + static_cast<std::ptrdiff_t>(place), wanted, UINT64_MAX);
  ByteSpan out(pages_.get() + place * kPage, static_cast<std::size_t>(length));
  if (source_->read_at(begin, out) < length) fail(begin, length);  // the file shrank meanwhile
  for (std::size_t i = 0; i < wanted; ++i) held_[place + i] = page + i;
  (runs_on ? *run : next_[oldest_++ % next_.size()]) = page + wanted;
}

void Region::fail(std::uint64_t offset, std::uint64_t count) const {
  std::string where = name_.empty() ? "the file" : fmt::format("\"{}\"", escape(name_));
  if (offset > size_)
    throw CutShort(fmt::format("offset {} lies outside {}, which has {} bytes",
                               static_cast<std::int64_t>(offset), where, size_));
  throw CutShort(fmt::format("expected {} bytes at offset {}, but {} ends after {}", count, offset, where,
                             size_ - offset));
}

}  // namespace operculum::layout
