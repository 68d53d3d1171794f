#include "format/filesystem/fat_clusters.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/numbers.h"
#include "base/units.h"

namespace operculum::fat {
namespace {

constexpr std::uint32_t kLast = 0x0FFFFFFF, kFirstLast = 0x0FFFFFF8;

Geometry in_use(const Boot& boot) {
  Geometry geometry = boot.geometry;
  geometry.table_at += boot.table_in_use * geometry.table_size;
  return geometry;
}

}  // namespace

Clusters::Clusters(const SourcePtr& volume, const Boot& boot) : boot_(boot), table_(volume, in_use(boot)) {}

std::uint32_t Clusters::entry(std::uint32_t cluster) const {
  auto found = changed_.find(cluster);
  return found != changed_.end() ? found->second : table_.entry(cluster);
}

void Clusters::set(std::uint32_t cluster, std::uint32_t value) {
  bool was_free = entry(cluster) == 0, is_free = value == 0;
  freed_ += (is_free ? 1 : 0) - (was_free ? 1 : 0);
  if (is_free) free_from_ = std::min(free_from_, cluster);
  changed_[cluster] = value;
}

std::vector<std::uint32_t> Clusters::chain(std::uint32_t first) const {
  std::vector<std::uint32_t> out;
  for (std::uint32_t cluster = first; cluster != 0 && cluster < kFirstLast;) {
    static_cast<void>(place(cluster));  // throws where it is none
    if (out.size() > boot_.geometry.clusters)
      throw Malformed(fmt::format("the chain of cluster {} has a loop", first));
    out.push_back(cluster);
    cluster = entry(cluster);
  }
  return out;
}

void Clusters::free_chain(std::uint32_t first) {
  for (std::uint32_t cluster : chain(first)) set(cluster, 0);
}

std::vector<std::uint32_t> Clusters::resize(std::vector<std::uint32_t> have, std::uint64_t count) {
  while (have.size() > count) {
    set(have.back(), 0);
    have.pop_back();
  }
  if (have.size() < count) {
    std::vector<std::uint32_t> more = take(count - have.size(), have.empty() ? 1 : have.back());
    have.insert(have.end(), more.begin(), more.end());
    for (std::size_t i = 0; i + 1 < have.size(); ++i) {
      if (entry(have[i]) != have[i + 1]) set(have[i], have[i + 1]);
    }
  }
  if (!have.empty() && entry(have.back()) < kFirstLast) set(have.back(), kLast);
  return have;
}

/// In one run where there is one: right behind `behind` first.
std::vector<std::uint32_t> Clusters::take(std::uint64_t count, std::uint32_t behind) {
  std::vector<std::uint32_t> out = run_from(behind + 1, count);
  if (out.size() < count) out = first_run(count);
  if (out.size() < count) {
    throw Unsupported(fmt::format("a FAT volume larger than it is: {} are free, {} more are needed",
                                  human_size(out.size() * size()), human_size(count * size())));
  }
  for (std::uint32_t cluster : out) set(cluster, kLast);
  return out;
}

std::vector<std::uint32_t> Clusters::run_from(std::uint32_t first, std::uint64_t count) const {
  std::vector<std::uint32_t> run;
  for (std::uint32_t next = first; next < end() && run.size() < count && entry(next) == 0; ++next)
    run.push_back(next);
  return run;
}

/// The first run that is long enough; the first free clusters, as many as there are, where there is none.
std::vector<std::uint32_t> Clusters::first_run(std::uint64_t count) {
  while (free_from_ < end() && entry(free_from_) != 0) ++free_from_;
  std::vector<std::uint32_t> loose, run;
  for (std::uint32_t cluster = free_from_; cluster < end() && run.size() < count; ++cluster) {
    if (entry(cluster) != 0) {
      run.clear();
      continue;
    }
    run.push_back(cluster);
    if (loose.size() < count) loose.push_back(cluster);
  }
  return run.size() == count ? run : loose;
}

void Clusters::put(Patches& patches, std::uint64_t table_at, std::uint32_t cluster,
                   std::uint32_t value) const {
  std::uint64_t at = table_at + std::uint64_t{cluster} * boot_.geometry.bits / 8;
  std::size_t width = boot_.geometry.bits == 32 ? 4 : 2;
  Bytes raw = patches.read(at, width);
  auto number = static_cast<std::uint32_t>(load_number(raw.data(), width, std::endian::little));
  if (boot_.geometry.bits == 32) {
    number = (number & 0xF0000000) | value;  // the four highest bits are reserved
  } else if (boot_.geometry.bits == 16) {
    number = value & 0xFFFF;
  } else if ((cluster & 1) != 0) {
    number = (number & 0x000F) | (value & 0xFFF) << 4;
  } else {
    number = (number & 0xF000) | (value & 0xFFF);
  }
  store_number(raw.data(), width, number);
  patches.put(at, raw);
}

void Clusters::write(Patches& patches) const {
  for (unsigned table = 0; table < boot_.tables; ++table) {
    if (!boot_.mirrored && table != boot_.table_in_use) continue;
    std::uint64_t at = boot_.geometry.table_at + table * boot_.geometry.table_size;
    for (const auto& [cluster, value] : changed_) put(patches, at, cluster, value);
  }
  if (boot_.info_at == 0) return;
  Bytes raw = patches.read(boot_.info_at, size_on_disk<InfoRecord>);
  auto info = read_structure<InfoRecord>(raw.data());
  constexpr std::uint32_t kUnknown = ~0U;
  if (!info.is_whole() || info.free == kUnknown) return;
  info.free = static_cast<std::uint32_t>(info.free + freed_);
  write_structure(info, raw.data());
  patches.put(boot_.info_at, raw);
}

}  // namespace operculum::fat
