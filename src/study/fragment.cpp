#include "study/fragment.h"

#include <algorithm>

#include "study/naming.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostNameText = 128;  // bytes of a name in front

/// Where the data of a record lies, counted as its numbers are.
struct Run {
  std::uint64_t begin, end;
};

/// The records of an explanation, and what may be others beside them.
class Ends {
 public:
  explicit Ends(const Hypothesis& found)
      : found_(found),
        grid_(found.grid),
        shape_(grid_.shape),
        offset_(*found.placement.offset),
        size_(*found.placement.size) {}

  bool open_in_front() const {
    Run first = run_of(grid_.row(0));
    if (!grid_.varies()) {
      ByteView row = bytes(grid_.begin - std::min(grid_.begin, shape_.fixed()), shape_.fixed());
      return grid_.begin >= shape_.fixed() && fits_in_front(row, first) && named(row);
    }
    if (shape_.align > 1 || shape_.text != TextEnd::zero || shape_.other != OtherText::none ||
        grid_.begin < shape_.fixed() + 2)
      return false;
    // The first name may have been cut, too.
    std::uint64_t begin = grid_.begin;
    while (shape_.before == 0 && begin > grid_.space->at && is_ascii_name_byte(byte_at(begin - 1))) --begin;
    if (begin < shape_.fixed() + 2) return false;
    // Its end is known, not its begin: its name may have any length.
    std::uint64_t text_end = begin - shape_.after - 1;
    ByteView after = bytes(text_end + 1, shape_.after);
    if (after.size() != shape_.after || byte_at(text_end) != 0) return false;
    for (std::uint64_t length = 1;
         length <= kMostNameText && length + shape_.before <= text_end - grid_.space->at; ++length) {
      std::uint64_t text = text_end - length;
      if (!is_name_byte(byte_at(text))) return false;
      ByteView before = bytes(text - shape_.before, shape_.before);
      Bytes row(before.begin(), before.end());
      row.insert(row.end(), after.begin(), after.end());
      if (fits_in_front(row, first)) return true;
    }
    return false;
  }

  bool open_behind() const {
    if (!grid_.complete()) return false;
    Run last = run_of(grid_.row(grid_.rows() - 1));
    if (!grid_.varies()) {
      ByteView row = bytes(grid_.end, shape_.fixed());
      return fits_behind(row, last) && named(row);
    }
    Grid next = text_grid(grid_.space, grid_.end, shape_, 1);
    return next.rows() == 1 && fits_behind({next.row(0), shape_.fixed()}, last);
  }

 private:
  ByteView bytes(std::uint64_t at, std::uint64_t count) const {
    const Space& space = *grid_.space;
    if (at < space.at || at > space.end() || count > space.end() - at) return {};
    return ByteView(space.bytes)
        .subspan(static_cast<std::size_t>(at - space.at), static_cast<std::size_t>(count));
  }
  Byte byte_at(std::uint64_t at) const {
    ByteView one = bytes(at, 1);
    return one.empty() ? Byte{0} : one[0];
  }

  Run run_of(const Byte* row) const {
    std::uint64_t begin = offset_.count_of(read_number(row + offset_.at, offset_.form)) * offset_.factor;
    std::uint64_t size = size_.count_of(read_number(row + size_.at, size_.form));
    return {begin, found_.placement.size_is_end ? size : begin + size};
  }

  bool adjoin(const Run& one, const Run& other) const {
    std::uint64_t gap = other.begin - one.end;
    return one.begin < one.end && one.end <= other.begin &&
           gap < std::max<std::uint64_t>(found_.placement.align, 1);
  }
  bool fits_in_front(ByteView row, const Run& first) const {
    return row.size() == shape_.fixed() && adjoin(run_of(row.data()), first);
  }
  bool fits_behind(ByteView row, const Run& last) const {
    return row.size() == shape_.fixed() && adjoin(last, run_of(row.data()));
  }

  /// Whether there is a name where records have one.
  bool named(ByteView row) const {
    const Column* name = found_.column(Role::name);
    return name == nullptr || is_name_byte(row[name->at]);
  }

  const Hypothesis& found_;
  const Grid& grid_;
  const Shape& shape_;
  const Column& offset_;
  const Column& size_;
};

/// Whether there is a text like it at `at`, or no room for one.
bool comes_again(const std::vector<Column>& names, const Column& name, std::size_t at, std::size_t stride) {
  return at + name.width > stride || std::any_of(names.begin(), names.end(), [&](const Column& other) {
           return other.at == at && other.width == name.width;
         });
}

/// Whether places go on rising in the midst of records, `step` bytes behind each.
bool rises_within(const Hypothesis& found, std::size_t step) {
  const Grid& grid = found.grid;
  const Column& offset = *found.placement.offset;
  Column middle = offset;
  middle.at += step;
  for (std::size_t row = 0; row + 1 < grid.rows(); ++row) {
    std::uint64_t value = middle.value(grid, row);
    if (value <= offset.value(grid, row) || value >= offset.value(grid, row + 1)) return false;
  }
  return true;
}

/// Whether each record tells several places, at even distances: of more than the begin and the end of one.
bool tells_several(const Hypothesis& found) {
  constexpr std::size_t kLeastStep = 4, kLeastRows = 6;
  const Placement& placement = found.placement;
  const std::size_t stride = found.grid.shape.fixed();
  if (!placement.offset || placement.offset->counted != PlaceCount::up || found.grid.rows() < kLeastRows)
    return false;
  for (std::size_t folds = 2; stride / folds >= kLeastStep; ++folds) {
    std::size_t step = stride / folds;
    if (stride % folds != 0 || placement.offset->at + step + placement.offset->width > stride) continue;
    bool ends_there =
        folds == 2 && placement.size_is_end && placement.size->at == placement.offset->at + step;
    if (!ends_there && rises_within(found, step)) return true;
  }
  return false;
}

}  // namespace

bool holds_several(const Hypothesis& found) {
  constexpr std::size_t kMostFolds = 8;
  const std::size_t stride = found.grid.shape.fixed();
  if (found.grid.varies() || found.grid.decoded()) return false;
  if (tells_several(found)) return true;
  std::vector<Column> names;
  for (const Column& column : found.columns)
    if (column.role == Role::name) names.push_back(column);
  for (std::size_t folds = 2; folds <= kMostFolds && names.size() > 1; ++folds) {
    if (stride % folds != 0) continue;
    bool again = std::all_of(names.begin(), names.end(), [&](const Column& name) {
      std::size_t step = stride / folds;
      return comes_again(names, name, name.at + step, stride) &&
             (name.at < step || comes_again(names, name, name.at - step, stride));
    });
    if (again) return true;
  }
  return false;
}

unsigned open_ends(const Hypothesis& found) {
  const Placement& placement = found.placement;
  if (!placement.offset || !placement.size || !placement.in_order || found.grid.shape.data_behind ||
      found.grid.decoded() || found.grid.rows() == 0 || placement.offset->counted != PlaceCount::up)
    return 0;
  Ends ends(found);
  return (ends.open_in_front() ? 1 : 0) + (ends.open_behind() ? 1 : 0);
}

}  // namespace operculum::study
