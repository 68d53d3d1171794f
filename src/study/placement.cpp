#include "study/placement.h"

#include <algorithm>
#include <bit>

#include "study/filling.h"

namespace operculum::study {
namespace {

constexpr std::size_t kRowsFelt = 64;
constexpr double kLeastBase = 8;    // bits
constexpr double kNarrowSum = -12;  // bits of narrow numbers, of which there are more

/// Which number added to all offsets puts the data where it can be; what speaks for it in bits, below 0 when
/// it cannot be.
struct Base {
  std::uint64_t value = 0;
  double bits = -1;
};

/// What speaks for a place that lies so far behind where it is expected: filling up to an alignment is as
/// good.
double closeness(std::uint64_t found, std::uint64_t expected, std::uint64_t align) {
  if (found < expected || found - expected > kMostGap) return 0;
  if (found == expected) return 16;
  return found - expected < align ? 14 : std::max(0.0, 14 - log2_of(found - expected));
}

/// Where data lies as offsets count it.
struct Extent {
  std::uint64_t low;                  ///< where the first entry begins
  std::optional<std::uint64_t> high;  ///< where the last one ends
  std::uint64_t top;                  ///< where the last one begins
  std::uint64_t align;
};

/// Bases that put a place at the first of what is recognised, and most places where something begins that is
/// recognised by itself, or most of what is recognised at places.
std::vector<std::uint64_t> anchored_bases(const Candidate& offset, const Zone& zone) {
  constexpr std::size_t kRowsTried = 24, kRowsLooked = 32, kRowsFirst = 16, kLeastMet = 4;
  std::vector<std::uint64_t> bases;
  std::size_t rows = std::min(offset.values.size(), kRowsLooked);
  std::span<const std::uint64_t> anchors = zone.anchors;
  if (anchors.size() < kLeastMet) return bases;
  auto place = [&](std::size_t row) { return offset.values[row] * offset.column.factor; };
  auto met = [&](std::uint64_t base) {
    std::size_t count = 0;
    for (std::size_t row = 0; row < rows && (row < kRowsFirst || count > 0); ++row)
      count += std::binary_search(anchors.begin(), anchors.end(), base + place(row)) ? 1 : 0;
    return count;
  };
  for (std::size_t row = 0; row < std::min(rows, kRowsTried); ++row) {
    std::uint64_t anchor = anchors.front();
    if (anchor < place(row)) continue;
    std::size_t count = met(anchor - place(row));
    bool most = count * 2 >= rows || count * 4 >= anchors.size() * 3;
    if (count >= kLeastMet && most) bases.push_back(anchor - place(row));
  }
  return bases;
}

/// Where places may be counted from, and what speaks for it in bits.
using Bases = std::vector<std::pair<std::uint64_t, double>>;

/// Nothing to add is the likeliest, a number from nowhere the least.
constexpr double kBitsOfNone = 10, kBitsOfMet = 24, kBitsOfOdd = -14;

/// Of places that are counted up; what only fits the last one's end is added where that is known.
Bases usual_bases(const Candidate& offset, const Zone& zone) {
  Bases values = {{0, kBitsOfNone}, {zone.table_end, 0}, {zone.table_begin, 0}, {zone.first, 0}};
  for (std::uint64_t step : kAlignments) values.emplace_back(round_up(zone.table_end, step), -1);
  for (std::uint64_t base : anchored_bases(offset, zone))
    values.emplace_back(base, base == 0 ? kBitsOfNone : kBitsOfMet);
  return values;
}

/// Of others: the end of the file, the begin of the records, or a place of the record itself.
Bases counted_bases(const Column& offset, const Zone& zone, std::size_t stride) {
  if (offset.counted == PlaceCount::own)
    return {
        {0 - offset.from, kBitsOfNone}, {offset.at - offset.from, kBitsOfNone}, {stride - offset.from, 0}};
  return {{zone.file_size - offset.from, kBitsOfNone}, {zone.table_begin - offset.from, 0}};
}

/// Where data may end: with the file, or in front of the table.
std::vector<std::uint64_t> ends_in(const Zone& zone) {
  std::vector<std::uint64_t> ends = {zone.file_size};
  if (zone.table_begin > zone.first) ends.push_back(zone.table_begin);
  return ends;
}

/// Bases that put the last entry's end where data may end, whatever they are.
void add_bases_of_end(Bases& values, std::uint64_t high, const Zone& zone) {
  for (std::uint64_t end : ends_in(zone)) {
    if (end >= high) values.emplace_back(end - high, kBitsOfOdd);
  }
}

Base best_base(const Extent& extent, const Bases& values, const Zone& zone) {
  const auto& [low, high, top, align] = extent;
  const std::vector<std::uint64_t> ends = ends_in(zone);
  std::vector<std::uint64_t> begins = {zone.first};
  if (zone.table_end < zone.file_size && zone.table_end > zone.first) begins.push_back(zone.table_end);
  Base best;
  for (const auto& [value, prior] : values) {
    if (value > zone.file_size || high.value_or(top) > zone.file_size - value) continue;
    if (value + low < zone.first) continue;
    if (value + low < zone.table_end && value + high.value_or(top) > zone.table_begin) continue;
    double at_begin = 0, at_end = 0;
    for (std::uint64_t begin : begins) at_begin = std::max(at_begin, closeness(value + low, begin, align));
    for (std::uint64_t end : ends) {
      if (high)
        at_end = std::max(at_end, closeness(end, value + *high, align) + (end == value + *high ? 2 : 0));
    }
    double bits = prior + at_begin + at_end;
    if (bits > best.bits) best = {value, bits};
  }
  return best;
}

/// A first place of 0 may be the index itself: then the second one tells where data begins. `base_from` finds
/// the base of data that begins there.
template <typename BaseFrom>
void unless_index_is_entry(Base& base, std::uint64_t& low, const Runs& runs, const Candidate& offset,
                           const BaseFrom& base_from) {
  if (low != 0 || runs.rows.size() < 3 || runs.rows.front() != 0) return;
  std::uint64_t next = offset.values[runs.rows[1]] * offset.column.factor;
  Base other = base_from(next);
  if (other.value != 0 || other.bits <= base.bits) return;
  base = other;
  low = next;
}

}  // namespace

std::optional<Placement> place(const Grid& grid, const Zone& zone, const Pair& pair) {
  Column column = pair.offset;
  if (!settle(column, grid)) return std::nullopt;
  Candidate offset = numbers_of(grid, column);
  std::uint64_t factor = column.factor;
  if (offset.most > zone.file_size / factor) return std::nullopt;
  Runs runs = runs_of(grid, offset);
  if (runs.rows.empty() || runs.rows.size() * kMostShared < grid.rows()) return std::nullopt;
  std::uint64_t low = offset.values[runs.rows.front()] * factor,
                top = offset.values[runs.rows.back()] * factor;
  Placement found;
  found.offset = column;
  found.size = pair.size;
  found.size_is_end = pair.size_is_end;
  found.in_order = runs.in_order;
  const bool counted = column.counted != PlaceCount::up;
  Bases bases = counted ? counted_bases(column, zone, grid.shape.fixed()) : usual_bases(offset, zone);
  auto settle_base = [&](std::optional<std::uint64_t> high, std::uint64_t align) {
    if (high && !counted) add_bases_of_end(bases, *high, zone);
    Base base = best_base({low, high, top, align}, bases, zone);
    if (!counted)
      unless_index_is_entry(base, low, runs, offset, [&](std::uint64_t next) {
        return best_base({next, high, top, align}, bases, zone);
      });
    found.base = base.value;
    found.begin = base.value + low;
    return base.bits;
  };
  if (pair.size) {
    Candidate size = numbers_of(grid, *pair.size);
    Filling filling = fill(offset, runs, factor, size, pair.size_is_end, 0);
    if (filling.bits < 0) return std::nullopt;
    std::uint64_t last = size.values[runs.rows.back()];
    std::uint64_t high = pair.size_is_end ? last : top + last;
    if (high < top) return std::nullopt;
    double bits = settle_base(high, filling.align);
    if (bits < kLeastBase) return std::nullopt;
    found.end = found.base + high;
    found.align = filling.align;
    found.bits = filling.bits + bits;
    return found;
  }
  // Each entry ends where the next one begins.
  if (!runs.in_order || runs.rows.size() != grid.rows() || grid.rows() < 3) return std::nullopt;
  double bits = settle_base(std::nullopt, 1);
  if (bits < kLeastBase || static_cast<double>(top - low) < 0.3 * static_cast<double>(zone.file_size))
    return std::nullopt;
  bool in_front = found.base + top <= zone.table_begin && zone.table_begin > zone.first;
  found.end = in_front ? zone.table_begin : zone.file_size;
  found.bits = pair.bits + bits + (found.base + top == found.end ? 12 : 0);
  return found;
}

std::optional<Placement> place_by_sizes(const Grid& grid, const Zone& zone) {
  if (!grid.complete() || grid.rows() < 2) return std::nullopt;
  std::uint64_t left = zone.file_size - std::min(zone.file_size, zone.table_end);
  if (left < grid.rows()) return std::nullopt;
  std::vector<bool> free(grid.shape.fixed(), true);
  for (NumberForm form : kNumberForms) {
    for (std::size_t at = 0; at + form.width <= grid.shape.fixed(); ++at) {
      if (!may_lie(grid, free, at, form)) continue;
      std::uint64_t plain = 0;
      for (std::size_t row = 0; row < grid.rows() && plain <= left; ++row) {
        // Numbers that come to next to nothing so far will not come to a quarter of the data.
        if (row == kRowsFelt && plain * (grid.rows() / kRowsFelt) * 16 < left / 4) break;
        plain += std::min(grid.value(row, at, form), left + 1);
      }
      if (plain > left || plain < left / 4) continue;
      for (std::uint64_t align : {1, 4, 16, 512, 2048}) {
        std::uint64_t total = 0, begin = round_up(zone.table_end, align), size = 0;
        std::uint64_t room = zone.file_size - std::min(zone.file_size, begin);
        if (plain > room + align || plain + grid.rows() * (align - 1) + align < room) continue;
        for (std::size_t row = 0; row < grid.rows(); ++row) {
          size = grid.value(row, at, form);
          total += round_up(size, align);
        }
        if (total > left + align) break;
        if (begin + total != zone.file_size &&
            begin + total - (round_up(size, align) - size) != zone.file_size)
          continue;
        Placement found;
        found.size = Column{Role::size, at, form, form.width};
        found.begin = begin;
        found.end = zone.file_size;
        found.align = align;
        // In small files, and where filling hides differences, sums are right by chance now and then.
        found.bits = (form.width < 4 ? kNarrowSum : 0) + std::min(28.0, 2 * log2_of(left)) -
                     2 * log2_of(align - 1) + static_cast<double>(std::min<std::size_t>(grid.rows(), 20));
        return found;
      }
    }
  }
  return std::nullopt;
}

}  // namespace operculum::study
