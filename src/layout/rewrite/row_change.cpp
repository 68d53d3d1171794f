#include "layout/rewrite/row_change.h"

#include <algorithm>
#include <set>

#include "io/filling.h"
#include "layout/rewrite/name_parts.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kMostRow = 1 << 20;  // bytes of a row that is doubled

/// What lies from there on and may have to stay where it is.
std::optional<std::uint64_t> start_behind(const Survey& survey, std::uint64_t at) {
  std::optional<std::uint64_t> next;
  auto take = [&](std::uint64_t start) {
    if (start >= at && (!next || start < *next)) next = start;
  };
  for (const Extent& extent : survey.extents) {
    if (extent.there && extent.length > 0) take(extent.at);
  }
  for (const PlacedAt& placed : survey.head.placed) take(placed.position);
  return next;
}

/// The same change, with what lies behind moved, and kept where it is.
void add_both(std::vector<RowChange>& out, const RowChange& change, const Survey& survey, std::uint64_t end) {
  bool grows = change.with.size() != change.to - change.from;
  if (auto rest = grows ? start_behind(survey, end) : std::nullopt) {
    out.push_back(change);
    out.back().rest_at = rest;
  }
  out.push_back(change);
}

/// A change to a list, and from which element on the others get other numbers.
struct ListChange {
  RowChange change;
  const ListSeen* list;
  std::size_t first;
  std::int64_t by;
};

/// All of them, then all of them again with the numbers of the other elements as they would be.
std::vector<RowChange> all_ways(const Survey& survey, const std::vector<ListChange>& changes) {
  std::vector<RowChange> out;
  for (const ListChange& one : changes) add_both(out, one.change, survey, one.list->end);
  for (const ListChange& one : changes) {
    for (const auto& numbers : element_numbers(survey, *one.list, one.first, one.by)) {
      RowChange with = one.change;
      with.numbers.insert(with.numbers.end(), numbers.begin(), numbers.end());
      add_both(out, with, survey, one.list->end);
    }
  }
  return out;
}

/// The bytes of entries that no other one has; those that only filling lies between go in one piece.
std::vector<Cut> bytes_of(const Survey& survey, std::size_t index, std::size_t count) {
  std::vector<Cut> out;
  std::vector<Extent> others;
  for (std::size_t i = 0; i < survey.extents.size(); ++i) {
    const Extent& extent = survey.extents[i];
    if (!extent.there || extent.length == 0) continue;
    if (i >= index && i - index < count)
      out.push_back({extent.at, extent.at + extent.length});
    else
      others.push_back(extent);
  }
  auto by_place = [](const auto& a, const auto& b) { return a.at < b.at; };
  std::sort(others.begin(), others.end(), by_place);
  std::uint64_t longest = 0;
  for (const Extent& one : others) longest = std::max(longest, one.length);
  std::erase_if(out, [&](const Cut& cut) {
    auto other = std::lower_bound(others.begin(), others.end(), cut.from > longest ? cut.from - longest : 0,
                                  [](const Extent& one, std::uint64_t at) { return one.at < at; });
    for (; other != others.end() && other->at < cut.to; ++other)
      if (other->at + other->length > cut.from) return true;
    return false;
  });
  std::sort(out.begin(), out.end(), [](const Cut& a, const Cut& b) { return a.from < b.from; });
  std::vector<Cut> joined;
  for (const Cut& cut : out) {
    bool follows = !joined.empty() && (cut.from <= joined.back().to ||
                                       is_filling(*survey.file.source, joined.back().to, cut.from));
    if (follows)
      joined.back().to = std::max(joined.back().to, cut.to);
    else
      joined.push_back(cut);
  }
  return joined;
}

/// Of rows that lie one behind the other for as many entries, the bytes from the first to the last.
std::optional<std::uint64_t> end_of_rows(const Row& first, const std::vector<Row>& last, std::size_t count) {
  for (const Row& row : last)
    if (row.list == first.list && row.number == first.number + count - 1) return row.end;
  return std::nullopt;
}

std::vector<RowChange> removals(const Survey& survey, std::size_t index, std::size_t count) {
  std::vector<ListChange> out;
  std::vector<Row> rows = rows_of(survey, index);
  std::vector<Row> last = count == 1 ? rows : rows_of(survey, index + count - 1);
  std::vector<Cut> bytes = bytes_of(survey, index, count);
  auto fewer = -static_cast<std::int64_t>(count);
  for (const Row& row : rows) {
    auto end = end_of_rows(row, last, count);
    if (!end) continue;
    RowChange change{RowChange::Kind::removed, index, row.begin, *end};
    change.count = count;
    change.numbers = count_change(survey, *row.list, fewer);
    bool apart = !bytes.empty() && std::all_of(bytes.begin(), bytes.end(), [&](const Cut& cut) {
      return cut.from >= *end || cut.to <= row.begin;
    });
    if (apart) {  // their bytes go with them, where they can
      change.gone = bytes;
      out.push_back({change, row.list, row.number + count, fewer});
      change.gone = {};
    }
    out.push_back({std::move(change), row.list, row.number + count, fewer});
  }
  return all_ways(survey, out);
}

/// Where in its list a new row comes: in a list with one for each entry in the order of paths, where they
/// have one, or at the end; elsewhere right behind the row that it is like.
std::size_t place_for(const Survey& survey, const Row& like, const std::string& path) {
  std::span<const Entry> entries = survey.container->entries();
  if (like.list->begins.size() != entries.size()) return like.number + 1;
  auto by_path = [](const Entry& a, const Entry& b) { return a.path < b.path; };
  if (!std::is_sorted(entries.begin(), entries.end(), by_path)) return entries.size();
  auto behind =
      std::find_if(entries.begin(), entries.end(), [&](const Entry& one) { return path < one.path; });
  return static_cast<std::size_t>(behind - entries.begin());
}

std::vector<RowChange> doubles(const Survey& survey, std::size_t like, const std::string& path,
                               const std::vector<Row>& rows) {
  std::vector<ListChange> out;
  for (const Row& row : rows) {
    if (row.end - row.begin > kMostRow) continue;
    std::size_t number = place_for(survey, row, path);
    std::uint64_t at = number < row.list->begins.size() ? row.list->begins[number] : row.list->end;
    RowChange change{RowChange::Kind::added, like, at, at};
    change.with = read_exactly(*survey.file.source, row.begin, row.end - row.begin, "a row");
    change.inside = row.begin;
    change.path = survey.container->entries()[like].path;
    change.numbers = count_change(survey, *row.list, 1);
    change.new_index = row.list->begins.size() == survey.container->entries().size() ? number : like + 1;
    const Extent& extent = survey.extents[like];
    bool apart =
        extent.there && extent.length > 0 && (extent.at >= row.end || extent.at + extent.length <= row.begin);
    if (apart) {  // where sizes follow from what begins next, no two can have the same bytes
      change.doubles_bytes = true;
      out.push_back({change, row.list, number, 1});
      change.doubles_bytes = false;
    }
    out.push_back({change, row.list, number, 1});
  }
  return all_ways(survey, out);
}

}  // namespace

std::vector<RowChange> ways_to_remove(const Survey& survey, std::size_t index, std::size_t count) {
  return removals(survey, index, count);
}
std::vector<RowChange> ways_to_double(const Survey& survey, std::size_t like, const std::string& path) {
  return doubles(survey, like, path, rows_of(survey, like));
}

namespace {

/// The record at a place that was gone to, in which a text lies; null when there is none near.
const PlacedAt* record_with(const Survey& survey, std::uint64_t text) {
  constexpr std::uint64_t kFarthest = 4096;  // bytes
  const PlacedAt* record = nullptr;
  for (const PlacedAt& placed : survey.head.placed) {
    bool near = placed.position < text && text - placed.position <= kFarthest;
    if (near && (record == nullptr || placed.position >= record->position)) record = &placed;
  }
  return record;
}

/// Numbers that may have led to a place: it is a multiple of them, counted from the start or from another
/// place.
std::vector<NumberRead> pointers_to(const Survey& survey, const PlacedAt& record) {
  constexpr std::size_t kMost = 12;
  constexpr std::int64_t kScales[] = {1, 2, 4, 8, 16, 512, 2048};
  std::set<std::int64_t> distances = {record.stated};
  for (const PlacedAt& placed : survey.head.placed) distances.insert(record.stated - placed.stated);
  auto leads = [&](std::int64_t value) {
    constexpr std::int64_t kLargest = std::int64_t{1} << 50;
    return value > 0 && value < kLargest &&
           std::any_of(std::begin(kScales), std::end(kScales),
                       [&](std::int64_t scale) { return distances.contains(value * scale); });
  };
  std::vector<NumberRead> out;
  for (std::size_t i = std::min(record.numbers, survey.head.numbers.size()); i-- > 0 && out.size() < kMost;) {
    const NumberRead& read = survey.head.numbers[i];
    bool known =
        std::any_of(out.begin(), out.end(), [&](const NumberRead& one) { return one.at == read.at; });
    if (!known && leads(read.value)) out.push_back(read);
  }
  return out;
}

}  // namespace

std::vector<RowChange> ways_to_unlink(const Survey& survey, std::size_t index) {
  constexpr std::size_t kMostTargets = 6;
  std::vector<RowChange> out;
  const std::string& path = survey.container->entries()[index].path;
  for (const NamePart& part : name_parts(survey, path, path)) {
    const PlacedAt* record = record_with(survey, part.read->at);
    if (record == nullptr) continue;
    for (const NumberRead& pointer : pointers_to(survey, *record)) {
      std::set<std::int64_t> targets;
      for (const NumberRead& read : survey.head.numbers) {
        bool own = read.at >= record->position && read.at < part.read->at && read.width == pointer.width;
        if (own && targets.size() < kMostTargets) targets.insert(read.value);
      }
      targets.insert(0);
      targets.erase(pointer.value);
      for (auto value = targets.rbegin(); value != targets.rend(); ++value) {
        RowChange change{RowChange::Kind::removed, index};
        change.numbers = {{pointer, *value - pointer.value}};
        out.push_back(std::move(change));
      }
    }
  }
  return out;
}

std::vector<RowChange> ways_to_rename(const Survey& survey, std::size_t index, const std::string& path) {
  std::vector<RowChange> out;
  const std::string& before = survey.container->entries()[index].path;
  for (const NamePart& part : name_parts(survey, before, path)) {
    for (TextEdit& edit : edits_of(survey, part)) {
      RowChange change{RowChange::Kind::renamed, index, edit.from, edit.to, std::move(edit.with)};
      change.numbers = std::move(edit.numbers);
      change.behind = std::move(edit.behind);
      change.path = path;
      add_both(out, change, survey, edit.to);
    }
  }
  for (auto& numbers : hash_changes(survey, before, path)) {
    RowChange change{RowChange::Kind::renamed, index};
    change.numbers = std::move(numbers);
    change.path = path;
    change.by_hash = true;
    out.push_back(std::move(change));
  }
  return out;
}

}  // namespace operculum::layout
