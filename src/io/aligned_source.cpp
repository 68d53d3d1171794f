#include "io/aligned_source.h"

#include <algorithm>

namespace operculum {

std::size_t AlignedSource::read_at(std::uint64_t offset, ByteSpan out) const {
  if (offset >= size()) return 0;
  out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size() - offset)));
  Bytes one;
  for (std::size_t done = 0; done < out.size();) {
    std::uint64_t at = offset + done;
    std::size_t within = static_cast<std::size_t>(at % unit_), left = out.size() - done;
    if (within == 0 && left >= unit_) {
      ByteSpan whole = out.subspan(done, std::min(left / unit_, most_) * unit_);
      read_units(at, whole);
      done += whole.size();
      continue;
    }
    one.resize(unit_);
    read_units(at - within, one);
    std::size_t part = std::min(unit_ - within, left);
    std::copy_n(one.begin() + static_cast<std::ptrdiff_t>(within), part,
                out.begin() + static_cast<std::ptrdiff_t>(done));
    done += part;
  }
  return out.size();
}

}  // namespace operculum
