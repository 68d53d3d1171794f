#include "task/region_map.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "container/identify.h"
#include "format/firmware/firmware_parts.h"
#include "io/filling.h"
#include "study/profile.h"
#include "task/version_texts.h"

namespace operculum {
namespace {

constexpr std::size_t kMostRegions = 5000;
constexpr int kDeepest = 6, kDeepestNest = 32;
constexpr std::uint64_t kLookSample = 256 * 1024;  // bytes looked at to tell what a stretch is like
constexpr std::uint64_t kLeastGap = 512;           // bytes: less is alignment, or a header of what follows

/// What a stretch is like that nothing is known of.
std::string look_of(const Source& file, std::uint64_t at, std::uint64_t size) {
  Bytes sample = read_up_to(file, at, std::min(size, kLookSample));
  if (sample.empty()) return "behind the end of the file";
  study::Counted counted = study::count_bytes(sample);
  if (counted.look == study::Look::filling) return fmt::format("filled with {:#04x}", sample[0]);
  if (counted.look == study::Look::text) return "text";
  constexpr float kDense = 7.8F;  // bits a byte
  return counted.entropy > kDense && sample.size() >= 4096 ? "packed or encrypted" : "data";
}

class Mapper {
 public:
  explicit Mapper(OpenContext& context) : context_(context) {}

  std::vector<Region> map(Container& container, const SourcePtr& file, std::uint64_t base, int depth) {
    struct Found {
      Region region;
      std::size_t index;
      bool whole;  // it is all of the entry
    };
    std::vector<Found> found;
    std::span<const Entry> entries = container.entries();
    for (std::size_t i = 0; i < entries.size() && left_ > 0; ++i) {
      const Entry& entry = entries[i];
      if (entry.kind != EntryKind::file && entry.kind != EntryKind::folder) continue;
      std::vector<Footprint> ranges = container.footprint(i);
      for (std::size_t piece = 0; piece < ranges.size() && left_ > 0; ++piece) {
        if (ranges[piece].at >= file->size()) continue;
        --left_;
        Region region{ranges[piece].at, std::min(ranges[piece].size, file->size() - ranges[piece].at),
                      entry.path};
        if (entry.extra) {
          region.what = entry.extra->type_tag;
          region.note = entry.extra->comment;
        }
        if (ranges.size() > 1) region.note = fmt::format("piece {} of {}", piece + 1, ranges.size());
        found.push_back({std::move(region), i, entry.stored_size != Entry::kUnknownSize});
      }
    }
    std::stable_sort(found.begin(), found.end(), [](const Found& a, const Found& b) {
      return std::pair(a.region.at, ~a.region.size) < std::pair(b.region.at, ~b.region.size);
    });
    std::vector<Region> flat;
    for (Found& one : found) {
      if (one.whole && entries[one.index].kind == EntryKind::file)
        look_into(container, one.index, file, one.region, depth);
      flat.push_back(std::move(one.region));
    }
    std::size_t next = 0;
    std::vector<Region> out = nest(flat, next, file->size());
    if (out.empty()) return out;
    fill_gaps(out, *file, 0, file->size());
    move(out, base);
    return out;
  }

  bool full() const { return left_ == 0; }

 private:
  /// What lies within what: a region belongs to the one before it when it ends by its end.
  static std::vector<Region> nest(std::vector<Region>& flat, std::size_t& next, std::uint64_t end,
                                  int depth = 0) {
    std::vector<Region> out;
    while (next < flat.size() && flat[next].at < end) {
      Region one = std::move(flat[next++]);
      std::uint64_t own_end = one.at + one.size;
      std::vector<Region> inner;
      if (depth < kDeepestNest) inner = nest(flat, next, own_end, depth + 1);
      one.inner.insert(one.inner.end(), std::make_move_iterator(inner.begin()),
                       std::make_move_iterator(inner.end()));
      out.push_back(std::move(one));
    }
    return out;
  }

  void look_into(Container& container, std::size_t index, const SourcePtr& file, Region& region, int depth) {
    try {
      SourcePtr stored = make_slice(file, region.at, region.size);
      bool as_it_lies = container.stored(index) != nullptr || container.entries()[index].method == "stored";
      if (!as_it_lies) return;
      Opened inner = recognise_content(make_content(stored), region.path, context_);
      if (inner.format == nullptr) {
        if (region.what.empty()) region.what = look_of(*stored, 0, stored->size());
        return;
      }
      region.what += (region.what.empty() ? "" : ": ") + std::string(inner.format->name);
      if (depth >= kDeepest || !can_be_mapped(*inner.format)) return;
      inner = open_container({make_content(stored), region.path}, context_);
      region.inner = map(*inner.container, stored, 0, depth + 1);
      move(region.inner, region.at);
    } catch (const std::exception& thrown) {
      region.note += (region.note.empty() ? "" : "; ") + std::string(as_error(thrown).what());
    }
  }

  static void move(std::vector<Region>& regions, std::uint64_t by) {
    if (by == 0) return;
    for (Region& one : regions) {
      one.at += by;
      move(one.inner, by);
    }
  }

  /// Adds what lies between regions.
  void fill_gaps(std::vector<Region>& regions, const Source& file, std::uint64_t begin, std::uint64_t end) {
    std::vector<Region> out;
    auto gap = [&](std::uint64_t from, std::uint64_t to) {
      if (to <= from || to - from < kLeastGap) return;
      // what is erased in front of something is told by itself
      if (std::uint64_t filled = filling_at(file, from, to - from);
          filled >= kLeastGap && filled < to - from) {
        out.push_back({.at = from, .size = filled, .what = look_of(file, from, filled), .gap = true});
        from += filled;
        if (to - from < kLeastGap) return;
      }
      out.push_back({.at = from, .size = to - from, .what = look_of(file, from, to - from), .gap = true});
    };
    std::uint64_t done = begin;
    for (Region& one : regions) {
      gap(done, one.at);
      done = std::max(done, one.at + one.size);
      if (!one.inner.empty()) fill_gaps(one.inner, file, one.at, one.at + one.size);
      out.push_back(std::move(one));
    }
    gap(done, end);
    regions = std::move(out);
  }

  OpenContext& context_;
  std::size_t left_ = kMostRegions;
};

}  // namespace

bool can_be_mapped(const Format& format) {
  bool tree = format.id == "device-tree";  // its properties are no parts of a chip
  return (format.family == "firmware" && !tree) || format.family == "partition table" ||
         format.id == "searched" || format.id == "spiffs";
}

RegionMap map_regions(Container& container, const SourcePtr& file, OpenContext& context) {
  RegionMap out;
  out.size = file->size();
  Mapper mapper(context);
  out.regions = mapper.map(container, file, 0, 0);
  out.cut = mapper.full();
  out.versions = version_texts(*file);
  return out;
}

}  // namespace operculum
