// Offsets and sizes are found by what only they do together: sorted by where they begin, entries fill the
// data's part of the file without overlapping, and the gaps between them are no larger than an alignment.
#include "study/columns.h"

#include <algorithm>
#include <bit>

namespace operculum::study {
namespace {

constexpr std::uint64_t kMostGap = 4096;  // bytes of filling between entries
constexpr std::uint64_t kMostFactor = 65536;
constexpr std::size_t kPairsKept = 12;
constexpr std::ptrdiff_t kPairsOfOffset = 3;  // of those
constexpr std::size_t kRowsFelt = 64;
constexpr std::size_t kLongRecord = 48;                                                   // bytes
constexpr double kBitsOfRow = 14, kBitsOfOrder = 2, kMostSurprise = 200, kLeastBase = 8;  // bits

/// The logarithm of value + 1, straight between powers of two.
double log2_of(std::uint64_t value) {
  int whole = std::bit_width(value + 1) - 1;
  return whole + static_cast<double>(value + 1 - (std::uint64_t{1} << whole)) /
                     static_cast<double>(std::uint64_t{1} << whole);
}

/// A column as numbers.
struct Candidate {
  Column column;
  std::vector<std::uint64_t> values;
  std::uint64_t least, most;
};

/// Whether the bytes of one are part of the other's.
bool within(const Column& a, const Column& b) {
  bool first = a.at >= b.at && a.at + a.width <= b.at + b.width;
  return first || (b.at >= a.at && b.at + b.width <= a.at + a.width);
}

/// Adds numbers of four bytes that could be places or sizes without their highest bits, which are flags then.
void add_flagged(std::vector<Candidate>& all, const Grid& grid, std::uint64_t most_value,
                 const std::vector<bool>& free) {
  constexpr unsigned kBits[] = {31, 30, 28};
  for (NumberForm form : {NumberForm{4, false}, {4, true}}) {
    for (std::size_t at = 0; at + form.width <= grid.shape.fixed(); ++at) {
      bool taken = std::any_of(all.begin(), all.end(), [&](const Candidate& other) {
        return other.column.at == at && other.column.form == form;
      });
      if (taken || !may_lie(grid, free, at, form)) continue;
      for (unsigned bits : kBits) {
        Candidate one{{Role::other, at, form, form.width}, {}, UINT64_MAX, 0};
        one.column.bits = bits;
        for (std::size_t i = 0; i < grid.rows() && one.most <= most_value; ++i) {
          one.values.push_back(one.column.count_of(grid.value(i, at, form)));
          one.least = std::min(one.least, one.values.back());
          one.most = std::max(one.most, one.values.back());
        }
        if (one.most > most_value || one.most == 0) continue;
        all.push_back(std::move(one));
        break;
      }
    }
  }
}

/// Columns whose numbers could be places or sizes in so many bytes. The same numbers are kept once: in the
/// form that is tried first.
std::vector<Candidate> candidates(const Grid& grid, std::uint64_t most_value, const std::vector<bool>& free) {
  std::vector<Candidate> all;
  std::size_t fixed = grid.shape.fixed();
  for (NumberForm form : kNumberForms) {
    for (std::size_t at = 0; at + form.width <= fixed; ++at) {
      if (!may_lie(grid, free, at, form)) continue;
      // A mask of four equal bytes shows in the highest one, which would be zero.
      std::size_t high = form.big ? at : at + form.width - 1;
      std::uint64_t mask = form.width == 4 && grid.rows() > 2 ? grid.row(0)[high] * 0x01010101u : 0;
      bool fits = true;
      Candidate one{{Role::other, at, form, form.width}, {}, UINT64_MAX, 0};
      one.column.mask = mask;
      one.values.reserve(grid.rows());
      for (std::size_t i = 0; fits && i < grid.rows(); ++i) {
        std::uint64_t value = grid.value(i, at, form);
        if (value > most_value)
          value ^= mask;
        else if (mask != 0 && i == 0)
          one.column.mask = mask = 0;
        fits = value <= most_value;
        one.values.push_back(value);
        one.least = std::min(one.least, value);
        one.most = std::max(one.most, value);
      }
      if (!fits || one.most == 0) continue;
      bool known = std::any_of(all.begin(), all.end(), [&](const Candidate& other) {
        return other.most == one.most && within(other.column, one.column) && other.values == one.values;
      });
      if (!known) all.push_back(std::move(one));
    }
  }
  add_flagged(all, grid, most_value, free);
  return all;
}

/// Entries in the order of where they begin.
struct Runs {
  std::vector<std::size_t> rows;    // by place; of equal places the first
  std::vector<std::size_t> all;     // with those of equal places, one behind the other
  std::vector<std::size_t> begins;  // of each of `rows`, where its equals begin in `all`
  std::vector<std::uint64_t> room;  // up to the next place, beside it; the last one's is not known
  bool in_order = true;
  double surprise = 0;  // the most that sizes which fit can tell, in bits
  unsigned zeros = 0;   // low bits that are zero in all places
};

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

/// How well sizes fill the room that offsets leave.
struct Filling {
  double bits = -1;
  std::uint64_t align = 1;
};

/// `shift` is how many rows behind the offset the size lies.
Filling fill(const Candidate& offset, const Runs& runs, std::uint64_t factor, const Candidate& size,
             bool is_end, int shift) {
  std::size_t fits = 0, asked = 0;
  std::uint64_t widest = 0;
  double bits = 0, gaps = 0;
  std::vector<std::uint64_t> filled_up;
  bool constant = size.least == size.most && !is_end;
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
    filled_up.push_back(round_up(bytes, factor << runs.zeros));
    bool filled = room == filled_up.back();
    // A number that never changes is less than all kinds of gaps: as a size it has to fill them.
    bool fitting = !constant || filled;
    if (bytes > room || room - bytes >= std::max(kMostGap, factor) || bytes == 0 || !fitting) {
      if (asked - fits > 1 + asked / 16) return {};
      bits -= 8;
      continue;
    }
    ++fits;
    widest = std::max(widest, room - bytes);
    gaps += static_cast<double>(room - bytes);
    double told = room == bytes
                      ? log2_of(room)
                      : log2_of(room) - log2_of(room - bytes) +
                            (filled ? runs.zeros + static_cast<double>(std::countr_zero(factor)) : 0);
    bits += std::min(kBitsOfRow, told);
  }
  if (fits * 20 < asked * 19 || fits == 0) return {};
  std::uint64_t align = std::bit_ceil(widest + 1);
  // Sizes that leave most of each gap, or are mostly the same, may be any small numbers.
  bool loose = align >= 16 && gaps > static_cast<double>(align) * 0.8 * static_cast<double>(fits);
  // Sizes that come to the same when they are filled up tell as little as places that rise by the same step.
  bits = std::min({bits, runs.surprise, surprise_of(std::move(filled_up))});
  return {bits * (loose ? 0.3 : 1), align};
}

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

Base best_base(const Extent& extent, std::span<const std::uint64_t> anchored, const Zone& zone) {
  constexpr double kNone = 10, kMet = 24,
                   kOdd = -14;  // nothing to add is the likeliest, a number from nowhere the least
  const auto& [low, high, top, align] = extent;
  std::vector<std::uint64_t> ends = {zone.file_size};
  if (zone.table_begin > zone.first) ends.push_back(zone.table_begin);
  std::vector<std::uint64_t> begins = {zone.first};
  if (zone.table_end < zone.file_size && zone.table_end > zone.first) begins.push_back(zone.table_end);
  std::vector<std::pair<std::uint64_t, double>> values = {
      {0, kNone}, {zone.table_end, 0}, {zone.table_begin, 0}, {zone.first, 0}};
  for (std::uint64_t step : kAlignments) values.emplace_back(round_up(zone.table_end, step), -1);
  for (std::uint64_t base : anchored) values.emplace_back(base, base == 0 ? kNone : kMet);
  if (high) {
    for (std::uint64_t end : ends) {
      if (end >= *high) values.emplace_back(end - *high, kOdd);
    }
  }
  Base best;
  for (const auto& [value, prior] : values) {
    if (high.value_or(top) > zone.file_size - std::min(zone.file_size, value)) continue;
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

class PairSearch {
 public:
  PairSearch(const Grid& grid, std::uint64_t file_size, const std::vector<bool>& free)
      : grid_(grid), file_size_(file_size), all_(candidates(grid, file_size, free)) {}

  std::vector<Pair> find() {
    for (const Candidate& offset : all_) with_offset(offset);
    return std::move(best_);
  }

 private:
  void with_offset(const Candidate& offset) {
    if (offset.least == offset.most && grid_.rows() > 1) return;
    // In long records narrow numbers are too many, and too often fit by chance.
    if (offset.column.width < 4 && grid_.shape.fixed() > kLongRecord) return;
    Runs runs = runs_of(grid_, offset);
    if (runs.rows.size() * 3 < grid_.rows() || runs.rows.size() < 2) return;
    for (std::uint64_t factor = 1; factor <= kMostFactor; factor *= 2) {
      if (offset.most > file_size_ / factor) break;
      if (factor > 1 && grid_.complete() && offset.most * factor < file_size_ / 16) continue;
      for (const Candidate& size : all_) {
        if (overlap(size.column, offset.column) || size.column.mask != 0) continue;
        if (size.column.width == 3 && grid_.shape.fixed() > kLongRecord) continue;
        for (int shift : {0, 1, -1}) {
          if (shift != 0 && size.least == size.most) continue;  // the same in whatever row
          offer(offset, factor, &size, false, shift, fill(offset, runs, factor, size, false, shift).bits);
          if (size.column.form == offset.column.form && size.column.mask == offset.column.mask &&
              size.column.bits == offset.column.bits && factor == 1)
            offer(offset, factor, &size, true, shift, fill(offset, runs, factor, size, true, shift).bits);
        }
      }
      if (runs.in_order && runs.rows.size() == grid_.rows() && runs.rows.size() >= 4) {
        double bits = kBitsOfOrder * static_cast<double>(std::min<std::size_t>(runs.rows.size(), 50));
        bits = std::min(bits, runs.surprise / 4) - (factor > 1 ? 6 : 0);
        offer(offset, factor, nullptr, false, 0, bits);
      }
    }
  }

  void offer(const Candidate& offset, std::uint64_t factor, const Candidate* size, bool is_end, int shift,
             double bits) {
    constexpr double kOfFlags = 6;  // a number with some bits left out fits sooner
    bits -= offset.column.bits != 0 ? kOfFlags : 0;
    bits -= size != nullptr && size->column.bits != 0 ? kOfFlags : 0;
    if (bits < 4) return;
    auto place = std::find_if(best_.begin(), best_.end(), [&](const Pair& one) { return bits > one.bits; });
    auto same_offset = [&](const Pair& one) {
      return one.offset.at == offset.column.at && one.offset.form == offset.column.form &&
             one.offset.factor == factor;
    };
    if (std::count_if(best_.begin(), place, same_offset) >= kPairsOfOffset) return;
    if (place == best_.end() && best_.size() >= kPairsKept) return;
    Pair pair{offset.column, std::nullopt, is_end, shift, bits};
    pair.offset.role = Role::offset;
    pair.offset.factor = factor;
    if (size != nullptr) {
      pair.size = size->column;
      pair.size->role = is_end ? Role::end_at : Role::size;
    }
    best_.insert(place, std::move(pair));
    drop_beyond(same_offset);
  }

  /// Of pairs with one offset the likeliest ones stay: what fits by chance often fits many sizes.
  template <typename SameOffset>
  void drop_beyond(const SameOffset& same_offset) {
    std::ptrdiff_t seen = 0;
    std::erase_if(best_, [&](const Pair& one) { return same_offset(one) && ++seen > kPairsOfOffset; });
    if (best_.size() > kPairsKept) best_.pop_back();
  }

  const Grid& grid_;
  std::uint64_t file_size_;
  std::vector<Candidate> all_;
  std::vector<Pair> best_;
};

/// The numbers of a column.
Candidate numbers_of(const Grid& grid, const Column& column) {
  Candidate one{column, std::vector<std::uint64_t>(grid.rows()), UINT64_MAX, 0};
  for (std::size_t i = 0; i < grid.rows(); ++i) {
    one.values[i] = column.count_of(grid.value(i, column.at, column.form));
    one.least = std::min(one.least, one.values[i]);
    one.most = std::max(one.most, one.values[i]);
  }
  return one;
}

}  // namespace

std::string_view name_of(Role role) {
  constexpr std::string_view kNames[] = {"offset",
                                         "end of data",
                                         "size",
                                         "unpacked size",
                                         "name",
                                         "place of name",
                                         "packing",
                                         "checksum",
                                         "time",
                                         "size of a part",
                                         "folder",
                                         "depth",
                                         "end of folder",
                                         "first in folder",
                                         "number in folder",
                                         "next in folder",
                                         "hash of name",
                                         "not known"};
  return kNames[static_cast<std::size_t>(role)];
}

std::vector<bool> free_bytes(const std::vector<Column>& columns, std::size_t fixed, ShortNames names) {
  std::vector<bool> free(fixed, true);
  for (const Column& column : columns) {
    bool doubtful = column.role == Role::name && column.width <= 4;
    if (doubtful && names == ShortNames::may_be_numbers) continue;
    for (std::size_t i = column.at; i < column.at + column.width && i < fixed; ++i) free[i] = false;
  }
  return free;
}

bool may_lie(const Grid& grid, const std::vector<bool>& free, std::size_t at, NumberForm form) {
  if (grid.varies() && at < grid.shape.before && at + form.width > grid.shape.before) return false;
  auto begin = free.begin() + static_cast<std::ptrdiff_t>(at);
  return std::all_of(begin, begin + form.width, [](bool one) { return one; });
}

std::vector<Pair> find_pairs(const Grid& grid, std::uint64_t file_size, const std::vector<bool>& free) {
  if (grid.rows() < 2 || file_size == 0) return {};
  return PairSearch(grid, file_size, free).find();
}

std::optional<Placement> place(const Grid& grid, const Zone& zone, const Pair& pair) {
  Candidate offset = numbers_of(grid, pair.offset);
  std::uint64_t factor = pair.offset.factor;
  if (offset.most > zone.file_size / factor) return std::nullopt;
  Runs runs = runs_of(grid, offset);
  if (runs.rows.empty()) return std::nullopt;
  std::uint64_t low = offset.values[runs.rows.front()] * factor,
                top = offset.values[runs.rows.back()] * factor;
  Placement found;
  found.offset = pair.offset;
  found.size = pair.size;
  found.size_is_end = pair.size_is_end;
  found.in_order = runs.in_order;
  std::vector<std::uint64_t> anchored = anchored_bases(offset, zone);
  if (pair.size) {
    Candidate size = numbers_of(grid, *pair.size);
    Filling filling = fill(offset, runs, factor, size, pair.size_is_end, 0);
    if (filling.bits < 0) return std::nullopt;
    std::uint64_t last = size.values[runs.rows.back()];
    std::uint64_t high = pair.size_is_end ? last : top + last;
    if (high < top) return std::nullopt;
    Base base = best_base({low, high, top, filling.align}, anchored, zone);
    unless_index_is_entry(base, low, runs, offset, [&](std::uint64_t next) {
      return best_base({next, high, top, filling.align}, anchored, zone);
    });
    if (base.bits < kLeastBase) return std::nullopt;
    found.base = base.value;
    found.begin = base.value + low;
    found.end = base.value + high;
    found.align = filling.align;
    found.bits = filling.bits + base.bits;
    return found;
  }
  // Each entry ends where the next one begins.
  if (!runs.in_order || runs.rows.size() != grid.rows() || grid.rows() < 3) return std::nullopt;
  Base base = best_base({low, std::nullopt, top, 1}, anchored, zone);
  unless_index_is_entry(base, low, runs, offset, [&](std::uint64_t next) {
    return best_base({next, std::nullopt, top, 1}, anchored, zone);
  });
  if (base.bits < kLeastBase || static_cast<double>(top - low) < 0.3 * static_cast<double>(zone.file_size))
    return std::nullopt;
  bool in_front = base.value + top <= zone.table_begin && zone.table_begin > zone.first;
  found.base = base.value;
  found.begin = base.value + low;
  found.end = in_front ? zone.table_begin : zone.file_size;
  found.bits = pair.bits + base.bits + (base.value + top == found.end ? 12 : 0);
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
        found.bits = std::min(28.0, 2 * log2_of(left)) - 2 * log2_of(align - 1) +
                     static_cast<double>(std::min<std::size_t>(grid.rows(), 20));
        return found;
      }
    }
  }
  return std::nullopt;
}

}  // namespace operculum::study
