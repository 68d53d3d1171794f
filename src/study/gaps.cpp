#include "study/gaps.h"

#include <algorithm>

#include "study/filling.h"
#include "study/packing.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

/// Where entries lie, in the order of the file.
std::vector<DataRun> runs_by_place(const Hypothesis& found) {
  std::vector<DataRun> runs = data_runs(found);
  std::sort(runs.begin(), runs.end(), [](const DataRun& a, const DataRun& b) { return a.at < b.at; });
  return runs;
}

/// What lies between entries.
struct Gaps {
  double bits = 0;                    ///< filling speaks for them, anything else against
  std::size_t looked = 0, other = 0;  ///< how many, and how many of them are no filling
};

/// Of entries that are all moved by so many bytes. What fills whole units up may be anything.
Gaps gaps_between(const Placement& placement, const std::vector<DataRun>& runs, std::uint64_t moved,
                  const Subject& subject) {
  constexpr std::size_t kLooked = 24;
  constexpr std::uint64_t kLeastSlack = 16;
  const std::uint64_t factor = placement.offset ? placement.offset->factor : 1;
  const bool slack = factor >= kLeastSlack && factor <= kMostGap;
  Gaps gaps;
  for (std::size_t i = 0; i + 1 < runs.size() && gaps.looked < kLooked; ++i) {
    std::uint64_t end = runs[i].at + runs[i].size;
    if (end >= runs[i + 1].at || runs[i + 1].at - end > kMostGap) continue;
    Bytes bytes = subject.read(end + moved, runs[i + 1].at - end);
    if (bytes.empty()) continue;
    ++gaps.looked;
    bool filling = std::all_of(bytes.begin(), bytes.end(), [&](Byte b) { return b == bytes.front(); });
    // A text may belong to an entry, such as its name.
    auto letters = std::count_if(bytes.begin(), bytes.end(), is_ascii_name_byte);
    bool text = letters * 5 > static_cast<std::ptrdiff_t>(bytes.size()) * 4;
    if (!filling && slack && bytes.size() <= factor) continue;
    gaps.other += filling ? 0 : 1;
    gaps.bits += filling ? std::min(4.0, static_cast<double>(bytes.size()) / 4) : text ? -1 : -8;
  }
  return gaps;
}

/// What speaks against places in units that are told without sizes, in bits: data that is filled up to whole
/// units ends with filling but by chance.
double bits_against_units(const Placement& placement, const std::vector<DataRun>& runs,
                          const Subject& subject) {
  constexpr std::uint64_t kLeastUnit = 16;
  constexpr std::size_t kLooked = 24;
  constexpr double kEach = 2;
  if (!placement.offset || placement.size || placement.offset->factor < kLeastUnit) return 0;
  double bits = 0;
  for (std::size_t i = 1; i < std::min(runs.size(), kLooked); ++i) {
    Bytes end = subject.read(runs[i].at - std::min<std::uint64_t>(runs[i].at, 2), 2);
    bool filling = end.size() == 2 && end[0] == end[1];
    bits += filling ? 0 : kEach;
  }
  return bits;
}

}  // namespace

void explain_gaps(Hypothesis& found, const Subject& subject) {
  if (found.grid.shape.data_behind) return;
  std::vector<DataRun> runs = runs_by_place(found);
  double bits = gaps_between(found.placement, runs, 0, subject).bits;
  // Offsets that count from the end of the table may count from the next multiple of an alignment.
  Placement& placement = found.placement;
  std::uint64_t table_end = found.grid.end;
  for (std::uint64_t align : kAlignments) {
    std::uint64_t moved = round_up(table_end, align) - table_end;
    if (found.base != "items_end" || align > placement.align || moved == 0 ||
        placement.end + moved > found.grid.space->file_size)
      continue;
    double others = gaps_between(placement, runs, moved, subject).bits;
    if (others <= bits) continue;
    bits = others;
    placement.base += moved;
    placement.begin += moved;
    placement.end += moved;
    found.base = fmt::format("align(items_end, {})", align);
  }
  found.bits += bits - bits_against_units(placement, runs, subject);
}

std::optional<Hypothesis> without_sizes(const Hypothesis& found, const Subject& subject) {
  constexpr std::size_t kTelling = 4;  // gaps
  const Placement& placement = found.placement;
  if (!placement.offset || !placement.size || placement.size_is_end || found.grid.shape.data_behind)
    return std::nullopt;
  std::vector<DataRun> runs = runs_by_place(found);
  Gaps gaps = gaps_between(found.placement, runs, 0, subject);
  if (gaps.looked < kTelling || gaps.other * 4 < gaps.looked * 3) return std::nullopt;
  Pair place_alone{*placement.offset, std::nullopt, false, 0, placement.bits / 2};
  auto whole = explain(found.grid, Frame(subject, found.grid.space), {place_alone});
  if (!whole) return std::nullopt;
  Column part = *placement.size;
  part.role = Role::part;
  part.why = "a little less than up to the next place";
  whole->add(std::move(part));
  return whole;
}

}  // namespace operculum::study
