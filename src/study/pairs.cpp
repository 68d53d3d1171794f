#include "study/pairs.h"

#include <algorithm>

#include "study/filling.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kMostFactor = 65536;
constexpr std::size_t kPairsKept = 12;
constexpr std::ptrdiff_t kPairsOfOffset = 3;  // of those
constexpr std::size_t kLongRecord = 48;       // bytes
constexpr double kBitsOfOrder = 2;            // of a row

/// Whether the bytes of one are part of the other's.
bool within(const Column& a, const Column& b) {
  bool first = a.at >= b.at && a.at + a.width <= b.at + b.width;
  return first || (b.at >= a.at && b.at + b.width <= a.at + a.width);
}

/// Adds places that are not counted from the front: those that rise from row to row, as nearly all do.
void add_counted(std::vector<Candidate>& all, const Grid& grid, std::uint64_t most_value,
                 const std::vector<bool>& free) {
  constexpr std::size_t kLeastRows = 3;
  if (grid.rows() < kLeastRows || grid.decoded()) return;
  for (NumberForm form : kWideForms) {
    for (std::size_t at = 0; at + form.width <= grid.shape.fixed(); ++at) {
      if (!may_lie(grid, free, at, form)) continue;
      for (PlaceCount counted : {PlaceCount::back, PlaceCount::below, PlaceCount::own}) {
        Candidate one{{Role::other, at, form, form.width}, {}, 0, 0};
        one.column.counted = counted;
        if (!settle(one.column, grid)) continue;
        for (std::size_t row = 0; row < grid.rows(); ++row) {
          std::uint64_t value = one.column.count(grid, row);
          if (value > most_value || (row > 0 && value <= one.values.back())) break;
          one.values.push_back(value);
        }
        if (one.values.size() < grid.rows()) continue;
        one.most = one.values.back();
        all.push_back(std::move(one));
      }
    }
  }
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
  add_counted(all, grid, most_value, free);
  return all;
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
    if (runs.rows.size() * kMostShared < grid_.rows() || runs.rows.size() < 2) return;
    std::uint64_t most_factor = offset.column.counted == PlaceCount::up ? kMostFactor : 1;
    for (std::uint64_t factor = 1; factor <= most_factor; factor *= 2) {
      if (offset.most > file_size_ / factor) break;
      if (factor > 1 && grid_.complete() && offset.most * factor < file_size_ / 16) continue;
      for (const Candidate& size : all_) {
        if (overlap(size.column, offset.column) || size.column.mask != 0 ||
            size.column.counted != PlaceCount::up)
          continue;
        if (size.column.width == 3 && grid_.shape.fixed() > kLongRecord) continue;
        for (int shift : {0, 1, -1}) {
          if (shift != 0 && size.least == size.most) continue;  // the same in whatever row
          offer(offset, factor, &size, false, shift, fill(offset, runs, factor, size, false, shift).bits);
          if (size.column.form == offset.column.form && size.column.mask == offset.column.mask &&
              size.column.bits == offset.column.bits && offset.column.counted == PlaceCount::up &&
              factor == 1)
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
    constexpr double kOfCounted = 8;
    bits -= offset.column.bits != 0 ? kOfFlags : 0;
    bits -= offset.column.counted != PlaceCount::up ? kOfCounted : 0;
    bits -= size != nullptr && size->column.bits != 0 ? kOfFlags : 0;
    if (bits < 4) return;
    auto place = std::find_if(best_.begin(), best_.end(), [&](const Pair& one) { return bits > one.bits; });
    auto same_offset = [&](const Pair& one) {
      return one.offset.at == offset.column.at && one.offset.form == offset.column.form &&
             one.offset.factor == factor && one.offset.counted == offset.column.counted;
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

}  // namespace

std::vector<Pair> find_pairs(const Grid& grid, std::uint64_t file_size, const std::vector<bool>& free) {
  if (grid.rows() < 2 || file_size == 0) return {};
  return PairSearch(grid, file_size, free).find();
}

}  // namespace operculum::study
