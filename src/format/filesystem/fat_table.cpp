#include "format/filesystem/fat_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "io/cached_source.h"

namespace operculum::fat {

Table::Table(SourcePtr volume, const Geometry& geometry)
    : volume_(make_cached(std::move(volume))), geometry_(geometry) {}

std::uint64_t Table::place(std::uint32_t cluster) const {
  if (!is_cluster(cluster))
    throw Malformed(fmt::format("cluster {} is not one of the volume's {}", cluster, geometry_.clusters));
  return geometry_.heap_at + std::uint64_t{cluster - 2} * geometry_.cluster_size;
}

std::uint32_t Table::entry(std::uint32_t cluster) const {
  std::uint64_t at = std::uint64_t{cluster} * geometry_.bits / 8;
  std::size_t width = geometry_.bits == 32 ? 4 : 2;
  if (at + width > geometry_.table_size)
    throw Malformed(fmt::format("cluster {} lies behind the end of the allocation table", cluster));
  Byte raw[4];
  if (volume_->read_at(geometry_.table_at + at, {raw, width}) < width)
    throw CutShort("the image ends within the allocation table");
  if (geometry_.bits == 32) return load_little<std::uint32_t>(raw) & 0x0FFFFFFF;
  std::uint32_t value = load_little<std::uint16_t>(raw);
  if (geometry_.bits == 16) return value >= 0xFFF0 ? value | 0x0FFF0000 : value;
  value = (cluster & 1) != 0 ? value >> 4 : value & 0xFFF;
  return value >= 0xFF0 ? value | 0x0FFFF000 : value;
}

std::vector<Extent> Table::chain(std::uint32_t first, std::uint64_t limit) const {
  constexpr std::uint32_t kBad = 0x0FFFFFF7, kLast = 0x0FFFFFF8;
  std::vector<Extent> out;
  std::uint64_t done = 0, steps = 0;
  std::uint64_t most =
      std::min<std::uint64_t>(geometry_.clusters, volume_->size() / geometry_.cluster_size + 1);
  for (std::uint32_t cluster = first; done < limit;) {
    std::uint64_t at = place(cluster), length = std::min(geometry_.cluster_size, limit - done);
    if (++steps > most)
      throw Malformed(fmt::format("the chain of cluster {} has a loop, or is longer than the image", first));
    if (!out.empty() && out.back().stored + out.back().length == at) {
      out.back().length += length;
    } else {
      out.push_back({done, at, length});
    }
    done += length;
    std::uint32_t next = entry(cluster);
    if (next >= kLast || next == 0) break;
    if (next == kBad) throw Malformed(fmt::format("the chain of cluster {} leads to a bad cluster", first));
    cluster = next;
  }
  return out;
}

std::vector<Extent> Table::run(std::uint32_t first, std::uint64_t limit) const {
  if (limit == 0) return {};
  std::uint64_t left = std::uint64_t{geometry_.clusters} - (std::max(first, 2U) - 2);
  return {{0, place(first), std::min(limit, left * geometry_.cluster_size)}};
}

std::uint64_t Table::free_clusters() const {
  std::uint64_t count = 0;
  for (std::uint32_t i = 0; i < geometry_.clusters; ++i) count += entry(i + 2) == 0 ? 1 : 0;
  return count;
}

}  // namespace operculum::fat
