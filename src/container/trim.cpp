#include "container/trim.h"

#include <algorithm>

namespace operculum {

std::optional<Trimmed> without_end(const SourcePtr& source, std::uint64_t needed, std::uint64_t alignment,
                                   Look look) {
  std::uint64_t end = filling_at_end(*source, needed, look);
  end = (end + alignment - 1) / alignment * alignment;
  if (end >= source->size()) return std::nullopt;
  Trimmed out;
  out.result.add(source, 0, end);
  return out;
}

std::uint64_t end_of_contents(Container& container, const Source& base) {
  std::span<const Entry> entries = container.entries();
  std::uint64_t end = 0;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (!entries[i].has_data()) continue;
    SourcePtr bytes = container.content(i)->source();
    for (std::uint64_t at = 0; bytes && at < bytes->size();) {
      auto run = trace(*bytes, at, base);
      std::uint64_t hole = run ? 0 : bytes->hole_at(at);
      if (run) end = std::max(end, run->at + run->length);
      if (!run && hole == 0) break;  // decoded: the format knows where from
      at += run ? run->length : hole;
    }
  }
  return end;
}

}  // namespace operculum
