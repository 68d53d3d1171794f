// Folders that are records among those of the files in them. Each way to tell what lies in which is a rule
// that hardly any other numbers keep: it is enough to try them all on the bytes that mean nothing else.
#include "study/nesting.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "study/packing.h"
#include "study/parents.h"

namespace operculum::study {
namespace {

constexpr std::size_t kLeastDepths = 3;

using Numbers = std::vector<std::uint64_t>;

/// Which row each lies in; the number of rows where it lies in none.
using Above = std::vector<std::size_t>;

class NestingSearch {
 public:
  explicit NestingSearch(Hypothesis& found)
      : found_(found),
        rows_(found.grid.rows()),
        free_(free_bytes(found.columns, found.grid.shape.fixed(), ShortNames::are_texts)) {
    for (const DataRun& run : data_runs(found)) empty_.push_back(run.size == 0);
  }

  void find() {
    if (std::count(empty_.begin(), empty_.end(), true) < static_cast<std::ptrdiff_t>(kLeastFolders)) return;
    for (NumberForm form : kRecordForms) {
      for (std::size_t at = 0; at + form.width <= found_.grid.shape.fixed(); ++at) {
        if (!may_lie(found_.grid, free_, at, form)) continue;
        Column column{Role::depth, at, form, form.width};
        Numbers numbers = numbers_of(column);
        if (by_depth(column, numbers) || by_end(column, numbers, all_ones(form)) || in_pairs(column, numbers))
          return;
      }
    }
  }

 private:
  Numbers numbers_of(const Column& column) const {
    Numbers numbers(rows_);
    for (std::size_t row = 0; row < rows_; ++row) numbers[row] = column.value(found_.grid, row);
    return numbers;
  }

  /// Each lies in the last one that is less deep by one, and that has no data.
  bool by_depth(const Column& column, const Numbers& depths) {
    std::vector<std::size_t> open;  // the row that was met last, by depth
    Above above(rows_, rows_);
    for (std::size_t row = 0; row < rows_; ++row) {
      if (depths[row] < depths[0] || depths[row] - depths[0] > open.size()) return false;
      auto depth = static_cast<std::size_t>(depths[row] - depths[0]);
      open.resize(depth);
      if (depth > 0) above[row] = open.back();
      open.push_back(row);
    }
    if (std::set<std::uint64_t>(depths.begin(), depths.end()).size() < kLeastDepths) return false;
    return keep({Nesting::Kind::depth, depths[0]}, above, {column});
  }

  /// Folders tell where they end: by the number of the record behind, or by how many lie in them.
  bool by_end(Column column, const Numbers& numbers, std::uint64_t none) {
    column.role = Role::behind;
    for (Nesting::Kind kind : {Nesting::Kind::behind, Nesting::Kind::inside}) {
      std::vector<std::pair<std::size_t, std::size_t>> open;  // folders: row, and the row behind
      std::set<std::uint64_t> sizes;
      Above above(rows_, rows_);
      bool fits = true;
      for (std::size_t row = 0; fits && row < rows_; ++row) {
        while (!open.empty() && open.back().second <= row) open.pop_back();
        if (!open.empty()) above[row] = open.back().first;
        std::uint64_t number = numbers[row];
        if (kind == Nesting::Kind::behind && (number == none || (number == 0 && !empty_[row])))
          number = row + 1;
        std::uint64_t size = kind == Nesting::Kind::behind ? number - row - 1 : number;
        fits = size < rows_ - row && (size == 0 || empty_[row]) &&
               (open.empty() || row + 1 + size <= open.back().second);
        if (!fits || size == 0) continue;
        sizes.insert(size);
        open.emplace_back(row, row + 1 + static_cast<std::size_t>(size));
      }
      // A sign that something is a folder would make it the folder of the one behind it.
      if (fits && sizes.size() > 1 && keep({kind, 0, none}, above, {column})) return true;
    }
    return false;
  }

  /// The number of the first one in a folder, and a second column.
  bool in_pairs(Column first, const Numbers& firsts) {
    first.role = Role::first_in;
    const std::uint64_t ones = all_ones(first.form);
    for (auto [from, none] : {std::pair{std::uint64_t{0}, ones},
                              {std::uint64_t{1}, std::uint64_t{0}},
                              {std::uint64_t{0}, std::uint64_t{0}}}) {
      if (!could_be_first(firsts, from, none)) continue;
      for (std::size_t at = 0; at + first.form.width <= found_.grid.shape.fixed(); ++at) {
        if (!may_lie(found_.grid, free_, at, first.form)) continue;
        Column second{Role::children, at, first.form, first.width};
        if (overlap(first, second)) continue;
        Numbers seconds = numbers_of(second);
        if (by_children(first, firsts, second, seconds, from, none) ||
            by_links(first, firsts, second, seconds, from, none))
          return true;
      }
    }
    return false;
  }

  bool could_be_first(const Numbers& firsts, std::uint64_t from, std::uint64_t none) const {
    std::size_t folders = 0;
    for (std::size_t row = 0; row < rows_; ++row) {
      std::uint64_t first = firsts[row];
      if (!empty_[row] || first == none) continue;
      if (first - from <= row || first - from >= rows_) return false;
      ++folders;
    }
    return folders >= kLeastFolders;
  }

  /// All in one folder lie side by side, those in none in front of all others.
  bool by_children(const Column& first, const Numbers& firsts, const Column& count, const Numbers& counts,
                   std::uint64_t from, std::uint64_t none) {
    Above above(rows_, rows_);
    std::size_t placed = 0, least = rows_;
    for (std::size_t row = 0; row < rows_; ++row) {
      if (counts[row] == 0) continue;
      std::uint64_t begin = firsts[row] - from;
      if (!empty_[row] || begin <= row || begin >= rows_ || counts[row] > rows_ - begin) return false;
      for (std::uint64_t i = begin; i < begin + counts[row]; ++i) {
        if (above[i] != rows_) return false;
        above[i] = row;
      }
      placed += counts[row];
      least = std::min(least, static_cast<std::size_t>(begin));
    }
    if (placed + least != rows_) return false;
    return keep({Nesting::Kind::children, from, none, least}, above, {first, count});
  }

  /// Every record but the first is led to once, in the end from that one.
  bool by_links(const Column& first, const Numbers& firsts, Column next, const Numbers& nexts,
                std::uint64_t from, std::uint64_t none) {
    next.role = Role::next_in;
    constexpr std::size_t kUnknown = SIZE_MAX;
    Above above(rows_, kUnknown);
    above[0] = rows_;
    if (from == none && nexts[0] != none) return false;  // 0 would be both the first one and none
    for (std::size_t row = 0; row < rows_; ++row) {
      if (above[row] == kUnknown) return false;  // nothing led here, though each leads to later ones
      for (bool down : {true, false}) {
        std::uint64_t link = down ? firsts[row] : nexts[row];
        if (link == none || (down && !empty_[row])) continue;
        std::uint64_t to = link - from;
        if (to <= row || to >= rows_ || above[to] != kUnknown) return false;
        above[to] = down ? row : above[row];
      }
    }
    return keep({Nesting::Kind::links, from, none}, above, {first, next});
  }

  bool keep(Nesting nesting, const Above& above, std::vector<Column> columns) {
    std::set<std::size_t> folders(above.begin(), above.end());
    folders.erase(rows_);
    bool all_empty =
        std::all_of(folders.begin(), folders.end(), [&](std::size_t row) { return empty_[row]; });
    if (folders.size() < kLeastFolders || !all_empty) return false;
    nesting.nameless = record_name(found_, 0).empty();
    if (nesting.nameless && static_cast<std::size_t>(std::count(above.begin(), above.end(), rows_)) != 1)
      return false;
    constexpr std::string_view kWhy[] = {"",
                                         "how deep a record lies in folders",
                                         "the number of the record behind all in a folder",
                                         "how many records lie in a folder, those in its folders, too",
                                         "the number of the first record in a folder",
                                         "the number of the first record in a folder"};
    columns[0].why = kWhy[static_cast<std::size_t>(nesting.kind)];
    if (columns.size() > 1)
      columns[1].why = nesting.kind == Nesting::Kind::links ? "the number of the next one in the same folder"
                                                            : "how many records lie in a folder";
    auto placed = static_cast<std::size_t>(
        std::count_if(above.begin(), above.end(), [&](std::size_t folder) { return folder != rows_; }));
    found_.evidence.push_back(
        fmt::format("{} of {} records lie in one of {} others", placed, rows_, folders.size()));
    for (Column& column : columns) found_.add(std::move(column));
    found_.nesting = nesting;
    return true;
  }

  Hypothesis& found_;
  std::size_t rows_;
  std::vector<bool> free_, empty_;  // bytes; rows
};

}  // namespace

void find_nesting(Hypothesis& found) {
  if (!found.grid.complete() || found.grid.rows() < kLeastRecords || found.nesting ||
      !has_plain_names(found, NamelessFirst::may_be))
    return;
  NestingSearch(found).find();
}

}  // namespace operculum::study
