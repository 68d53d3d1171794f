#include "study/unordered_search.h"

#include <algorithm>
#include <set>
#include <tuple>

#include "study/naming.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kFewRecords = 8, kLeastUnordered = 4, kMostUnordered = 65536, kFront = 48,
                        kKeyedFront = 8, kMostTrailer = 32;
constexpr std::size_t kLeastRecord = 8, kMostRecord = 96, kRecordsLooked = 256, kMostCounts = 16,
                      kMostPlacesTried = 16;
constexpr double kSure = 100, kOfFew = 5;  // bits

class UnorderedSearch {
 public:
  UnorderedSearch(const SpacePtr& space, const Subject& subject)
      : space_(space),
        subject_(subject),
        frame_(subject, space),
        end_(space->plain ? subject.size() : space->end()) {
    for (std::uint64_t number : frame_.places(subject.size())) {
      if (number >= kLeastUnordered && number <= kMostUnordered && counts_.size() < kMostCounts)
        counts_.push_back(number);
      if (number >= std::max(kFront, space->at) && number < end_ && begins_.size() < kMostPlacesTried)
        begins_.push_back(number);
    }
  }

  std::vector<Hypothesis> find() {
    for (std::uint64_t count : counts_) {
      if (space_->at == 0) {
        const std::uint64_t last = space_->keyed() ? kKeyedFront : kFront;
        for (std::uint64_t begin = space_->plain ? 4 : 0; begin <= last; ++begin) {
          if (!space_->plain && begin < end_) at_end(begin, count);  // an index may be nothing but records
          for (std::size_t stride = kLeastRecord; stride <= kMostRecord; ++stride)
            at_front(begin, count, stride);
          if (space_->plain && count <= kFewRecords) few_at_front(begin, count);
        }
      }
      for (std::uint64_t begin : begins_) at_end(begin, count);
    }
    return std::move(best_);
  }

 private:
  /// Some column's least number is where the table ends, or 0 where places count from there.
  void at_front(std::uint64_t begin, std::uint64_t count, std::size_t stride) {
    std::uint64_t table_end = begin + count * stride;
    if (table_end >= end_) return;
    if (table_end > space_->bytes.size()) return;  // the space begins at 0
    const Byte* rows = space_->bytes.data() + begin;
    const bool from_zero = closes(rows, begin, count);
    const std::uint64_t lowest = from_zero ? 0 : space_->plain ? table_end : 1;
    for (NumberForm form : kWideForms) {
      for (std::size_t at = 0; at + form.width <= stride; ++at) {
        std::uint64_t least = UINT64_MAX;
        bool fits = true;
        std::size_t looked = static_cast<std::size_t>(std::min<std::uint64_t>(count, kRecordsLooked));
        for (std::size_t row = 0; fits && row < looked; ++row) {
          std::uint64_t value = read_number(rows + row * stride + at, form);
          fits = value >= lowest && value < space_->file_size;
          least = std::min(least, value);
        }
        if (!fits || (space_->plain && least != 0 && !is_end(table_end, least))) continue;
        explain_rows(begin, stride, count);
        return;
      }
    }
  }

  /// Whether each of so many numbers, `stride` bytes from each other, is a place behind the one before.
  bool rises(const Byte* first, std::uint64_t count, std::size_t stride, NumberForm form) const {
    std::uint64_t before = read_number(first, form);
    for (std::size_t row = 1; row < count; ++row) {
      std::uint64_t value = read_number(first + row * stride, form);
      if (value <= before || value > end_) return false;
      before = value;
    }
    return true;
  }

  /// Places of a few records, by chance alone as likely as many other columns: the first one is where the
  /// table ends, and each other one lies behind the one before.
  void few_at_front(std::uint64_t begin, std::uint64_t count) {
    for (std::size_t stride = kLeastRecord; stride <= kMostRecord; ++stride) {
      std::uint64_t table_end = begin + count * stride;
      if (table_end >= end_ || table_end > space_->bytes.size()) return;
      const Byte* rows = space_->bytes.data() + begin;
      for (NumberForm form : kWideForms) {
        for (std::size_t at = 0; at + form.width <= stride; ++at) {
          if (read_number(rows + at, form) != table_end || !rises(rows + at, count, stride, form)) continue;
          Pair pair{{Role::offset, at, form, form.width},
                    std::nullopt,
                    false,
                    0,
                    kOfFew * static_cast<double>(count)};
          keep_explained(best_, fixed_grid(space_, subject_, begin, stride, count, kRecordsLooked), frame_,
                         {pair});
        }
      }
    }
  }

  /// Whether data may begin there behind a table.
  static bool is_end(std::uint64_t table_end, std::uint64_t place) {
    return place == table_end ||
           std::any_of(kAlignments.begin(), kAlignments.end(),
                       [&](std::uint64_t align) { return place == round_up(table_end, align); });
  }

  /// Where places may be 0, any column of small numbers would do: there the number of records has to stand
  /// right in front of them.
  bool closes(const Byte* rows, std::uint64_t begin, std::uint64_t count) const {
    if (begin < 4) return false;
    return read_number(rows - 4, {4, false}) == count || read_number(rows - 4, {4, true}) == count;
  }

  /// So many records fill the room up to the end of the file, or to a trailer in front of it.
  void at_end(std::uint64_t begin, std::uint64_t count) {
    for (std::uint64_t trailer = 0; trailer <= kMostTrailer; trailer += 4) {
      std::uint64_t room = end_ - begin;
      if (room <= trailer || (room - trailer) % count != 0) continue;
      std::uint64_t stride = (room - trailer) / count;
      if (stride >= kLeastRecord && stride <= kMostRecord)
        explain_rows(begin, static_cast<std::size_t>(stride), count);
    }
  }

  void explain_rows(std::uint64_t begin, std::size_t stride, std::uint64_t count) {
    if (!tried_.insert({begin, stride, count}).second || is_several(begin, stride)) return;
    Grid grid = fixed_grid(space_, subject_, begin, stride, count, kRecordsLooked);
    if (grid.rows() < kLeastUnordered) return;
    std::vector<Pair> pairs =
        find_pairs(grid, space_->file_size, free_bytes(find_texts(grid), stride, ShortNames::may_be_numbers));
    std::erase_if(pairs, [](const Pair& pair) { return pair.shift != 0 || !pair.size; });
    std::vector<Hypothesis> found;
    keep_explained(found, grid, frame_, pairs);
    if (!found.empty() && found.front().bits > kSure) sure_.emplace_back(begin, stride);
    for (Hypothesis& one : found) keep_best(best_, std::move(one));
  }

  /// Whether such records would be several of what was found there.
  bool is_several(std::uint64_t begin, std::size_t stride) const {
    return std::any_of(sure_.begin(), sure_.end(), [&](const auto& one) {
      return one.first == begin && stride > one.second && stride % one.second == 0;
    });
  }

  SpacePtr space_;
  const Subject& subject_;
  Frame frame_;
  std::uint64_t end_;
  std::vector<std::uint64_t> counts_, begins_;
  std::set<std::tuple<std::uint64_t, std::size_t, std::uint64_t>> tried_;
  std::vector<Hypothesis> best_;
  std::vector<std::pair<std::uint64_t, std::size_t>> sure_;  // where records begin, and their bytes
};

}  // namespace

std::vector<Hypothesis> search_unordered(const SpacePtr& space, const Subject& subject) {
  return UnorderedSearch(space, subject).find();
}

}  // namespace operculum::study
