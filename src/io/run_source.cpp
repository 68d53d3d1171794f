#include "io/run_source.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"

namespace operculum {

RunSource::RunSource(SourcePtr whole, std::uint64_t size, std::vector<ImageRun> runs, Decode decode)
    : MappedSource(std::move(whole), size), runs_(std::move(runs)), decode_(std::move(decode)) {
  std::stable_sort(runs_.begin(), runs_.end(),
                   [](const ImageRun& a, const ImageRun& b) { return a.logical < b.logical; });
  std::uint64_t end = 0;
  for (const ImageRun& run : runs_) {
    if (run.logical < end)
      throw Malformed(fmt::format("two runs of the image overlap at offset {}", run.logical));
    end = checked_add(run.logical, run.length, "a run of the image");
    if (end > size) throw Malformed(fmt::format("a run of the image ends at {}, the image at {}", end, size));
  }
}

MappedRun RunSource::locate(std::uint64_t offset) const {
  auto next = std::upper_bound(runs_.begin(), runs_.end(), offset,
                               [](std::uint64_t at, const ImageRun& run) { return at < run.logical; });
  if (next != runs_.begin()) {
    const ImageRun& run = *std::prev(next);
    std::uint64_t within = offset - run.logical;
    if (within < run.length) {
      auto index = static_cast<std::uint64_t>(std::prev(next) - runs_.begin());
      bool packed = run.from == MappedRun::From::packed;
      return {run.from, run.length - within, packed ? index : run.at + within, packed ? within : 0};
    }
  }
  std::uint64_t until = next == runs_.end() ? size() : next->logical;
  return {MappedRun::From::zeros, until - offset};
}

}  // namespace operculum
