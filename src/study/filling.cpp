// Offsets and sizes are found by what only they do together: sorted by where they begin, entries fill the
// data's part of the file without overlapping, and the gaps between them are no larger than an alignment.
#include "study/filling.h"

#include <algorithm>
#include <bit>

namespace operculum::study {
namespace {

constexpr double kBitsOfRow = 14, kMostSurprise = 200;  // bits

/// The most that numbers which fit can tell: those that are the same each time are no surprise.
double surprise_of(std::vector<std::uint64_t> numbers) {
  std::sort(numbers.begin(), numbers.end());
  double bits = 0;
  for (std::size_t begin = 0; begin < numbers.size();) {
    std::size_t end = begin;
    while (end < numbers.size() && numbers[end] == numbers[begin]) ++end;
    bits += kBitsOfRow + log2_of(end - begin);
    begin = end;
  }
  return std::min(bits, kMostSurprise);
}

/// The room of an entry and how many bytes of it sizes tell.
struct Filled {
  std::uint64_t room, bytes;
};

/// Those of all entries whose sizes fit; empty when too many do not. `shift` is how many rows behind the
/// offset the size lies.
std::vector<Filled> fitting(const Candidate& offset, const Runs& runs, std::uint64_t factor,
                            const Candidate& size, bool is_end, int shift, std::size_t& asked) {
  std::vector<Filled> all;
  const std::uint64_t step = factor << runs.zeros, most_gap = std::max(kMostGap, factor);
  const bool constant = size.least == size.most && !is_end;
  for (std::size_t i = 0; i < runs.room.size(); ++i) {
    if (runs.room[i] == 0) continue;
    // Of entries at the same place the largest counts: the others are empty, or the same once more.
    std::uint64_t room = runs.room[i] * factor, bytes = 0;
    bool known = false;
    for (std::size_t j = runs.begins[i]; j < runs.begins[i + 1]; ++j) {
      std::size_t row = runs.all[j] - static_cast<std::size_t>(shift);
      if (row >= size.values.size()) continue;
      bytes = std::max(bytes, size.values[row]);
      known = true;
    }
    if (!known) continue;
    if (is_end) {
      std::uint64_t begin = offset.values[runs.rows[i]];
      bytes = bytes < begin ? UINT64_MAX : bytes - begin;
    }
    ++asked;
    // A number that never changes is less than all kinds of gaps: as a size it has to fill them.
    bool fits = bytes != 0 && bytes <= room && room - bytes < most_gap &&
                (!constant || round_up(bytes, step) == room);
    if (fits)
      all.push_back({room, bytes});
    else if (asked - all.size() > 1 + asked / 16)
      return {};
  }
  if (all.size() * 20 < asked * 19) all.clear();
  return all;
}

}  // namespace

double log2_of(std::uint64_t value) {
  int whole = std::bit_width(value + 1) - 1;
  return whole + static_cast<double>(value + 1 - (std::uint64_t{1} << whole)) /
                     static_cast<double>(std::uint64_t{1} << whole);
}

bool settle(Column& column, const Grid& grid) {
  if (column.counted == PlaceCount::up) return true;
  if (column.counted == PlaceCount::own && (!grid.space->plain || grid.decoded())) return false;
  std::uint64_t most = 0;
  std::int64_t least = INT64_MAX;
  std::size_t negative = 0;
  for (std::size_t row = 0; row < grid.rows(); ++row) {
    std::uint64_t stored = grid.value(row, column.at, column.form);
    most = std::max(most, stored);
    negative += is_negative(stored, column.form) ? 1 : 0;
    std::uint64_t start = column.counted == PlaceCount::own ? grid.start(row) : 0;
    least = std::min(least, static_cast<std::int64_t>(sign_extended(stored, column.form) + start));
  }
  column.from = column.counted == PlaceCount::back ? most : 0 - static_cast<std::uint64_t>(least);
  if (column.counted == PlaceCount::back) return true;
  return negative == grid.rows() || (column.counted == PlaceCount::own && negative == 0);
}

Candidate numbers_of(const Grid& grid, const Column& column) {
  Candidate one{column, std::vector<std::uint64_t>(grid.rows()), UINT64_MAX, 0};
  for (std::size_t i = 0; i < grid.rows(); ++i) {
    one.values[i] = column.count(grid, i);
    one.least = std::min(one.least, one.values[i]);
    one.most = std::max(one.most, one.values[i]);
  }
  return one;
}

Runs runs_of(const Grid& grid, const Candidate& offset) {
  Runs runs;
  const auto& at = offset.values;
  for (std::size_t i = 0; i < at.size(); ++i) {
    if (at[i] != 0 || offset.least != 0 || i == 0) runs.rows.push_back(i);
  }
  runs.in_order = std::is_sorted(runs.rows.begin(), runs.rows.end(),
                                 [&](std::size_t a, std::size_t b) { return at[a] < at[b]; });
  if (!runs.in_order)
    std::stable_sort(runs.rows.begin(), runs.rows.end(),
                     [&](std::size_t a, std::size_t b) { return at[a] < at[b]; });
  runs.all = std::move(runs.rows);
  runs.rows.clear();
  for (std::size_t i = 0; i < runs.all.size(); ++i) {
    if (i > 0 && at[runs.all[i]] == at[runs.all[i - 1]]) continue;
    runs.rows.push_back(runs.all[i]);
    runs.begins.push_back(i);
  }
  runs.begins.push_back(runs.all.size());
  for (std::size_t i = 0; i + 1 < runs.rows.size(); ++i) {
    bool broken = !grid.complete() && runs.rows[i] < grid.break_at && runs.rows[i + 1] >= grid.break_at;
    runs.room.push_back(broken ? 0 : at[runs.rows[i + 1]] - at[runs.rows[i]]);
  }
  runs.surprise = surprise_of(runs.room);
  std::uint64_t bits = 0;
  for (std::size_t row : runs.rows) bits |= at[row];
  runs.zeros = bits == 0 ? 0 : static_cast<unsigned>(std::countr_zero(bits));
  return runs;
}

Filling fill(const Candidate& offset, const Runs& runs, std::uint64_t factor, const Candidate& size,
             bool is_end, int shift) {
  constexpr double kMisfit = 8;
  std::size_t asked = 0;
  std::vector<Filled> fits = fitting(offset, runs, factor, size, is_end, shift, asked);
  if (fits.empty()) return {};
  const std::uint64_t step = factor << runs.zeros;
  // In larger units than gaps may be, any number fills one up.
  const double filled_tells = step > kMostGap ? 0 : static_cast<double>(std::countr_zero(step));
  std::uint64_t widest = 0;
  double bits = -kMisfit * static_cast<double>(asked - fits.size()), gaps = 0;
  std::vector<std::uint64_t> filled_up;
  filled_up.reserve(fits.size());
  for (const auto& [room, bytes] : fits) {
    filled_up.push_back(round_up(bytes, step));
    widest = std::max(widest, room - bytes);
    gaps += static_cast<double>(room - bytes);
    double told = log2_of(room);
    if (room != bytes) told -= log2_of(room - bytes) - (room == filled_up.back() ? filled_tells : 0);
    bits += std::min(kBitsOfRow, told);
  }
  std::uint64_t align = std::bit_ceil(widest + 1);
  // Sizes that leave most of each gap, or are mostly the same, may be any small numbers.
  bool loose = align >= 16 && gaps > static_cast<double>(align) * 0.8 * static_cast<double>(fits.size());
  // Sizes that come to the same when they are filled up tell as little as places that rise by the same step.
  bits = std::min({bits, runs.surprise, surprise_of(std::move(filled_up))});
  return {bits * (loose ? 0.3 : 1), align};
}

}  // namespace operculum::study
