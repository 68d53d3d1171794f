#include "container/trim.h"

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

}  // namespace operculum
