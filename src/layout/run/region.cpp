#include "layout/run/region.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"

namespace operculum::layout {

ByteView Region::elsewhere(std::uint64_t offset, std::uint64_t count) {
  if (offset > size_ || count > size_ - offset) fail(offset, count);
  std::uint64_t begin = offset / kWindow * kWindow;
  if (offset + count > begin + kWindow) {
    across_ = read_exactly(*source_, offset, count, "the container");
    return across_;
  }
  Window& window = windows_[(begin / kWindow) % kWindows];
  if (window.begin != begin) {
    recent_ = {};  // it may be this window
    window.bytes = read_up_to(*source_, begin, kWindow);
    window.begin = begin;
  }
  recent_ = window.bytes;
  recent_begin_ = begin;
  auto at = static_cast<std::size_t>(offset - begin);
  if (at + count > window.bytes.size()) fail(offset, count);  // the file shrank meanwhile
  return recent_.subspan(at, static_cast<std::size_t>(count));
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
