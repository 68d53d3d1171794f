#include "fuzz/pages.h"

#include <algorithm>
#include <map>

#include "base/cursor.h"
#include "io/extent_source.h"

namespace operculum::fuzz {

SourcePtr pages_of(ByteView bytes) {
  constexpr std::size_t kPage = 4096, kNumber = 4;
  std::size_t count = bytes.empty() ? 0 : bytes[0], head = 1 + count * kNumber;
  if (head > bytes.size()) return make_memory_source({});
  std::map<std::uint64_t, std::uint64_t> places;  // the last one of a number counts
  std::uint64_t size = 0;
  for (std::size_t i = 0; i < count && head + (i + 1) * kPage <= bytes.size(); ++i) {
    std::uint64_t page = load_little<std::uint32_t>(bytes.data() + 1 + i * kNumber);
    places[page * kPage] = head + i * kPage;
    size = std::max(size, (page + 1) * kPage);
  }
  std::vector<Extent> extents;
  for (const auto& [at, stored] : places) extents.push_back({at, stored, kPage});
  return make_extent_source(make_memory_source(Bytes(bytes.begin(), bytes.end())), std::move(extents), size);
}

}  // namespace operculum::fuzz
