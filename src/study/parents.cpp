#include "study/parents.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "study/packing.h"

namespace operculum::study {
namespace {

/// How a number names a record.
struct Counting {
  std::uint64_t first;  ///< what the first record is called
  std::uint64_t none;   ///< what stands where there is no folder
};

/// Whether following these leads out of all folders. Each is followed once, up to one that is known to.
bool leads_out(const std::vector<std::size_t>& above, std::size_t none) {
  std::vector<std::size_t> seen_from(above.size(), none);  // the row from which a row was met first
  for (std::size_t begin = 0; begin < above.size(); ++begin) {
    std::size_t row = begin;
    for (; row != none && seen_from[row] == none; row = above[row]) seen_from[row] = begin;
    if (row != none && seen_from[row] == begin) return false;
  }
  return true;
}

/// How many records lie in a folder, where the column at `at` is read in that way; 0 when it cannot be.
std::size_t children(const Grid& grid, std::size_t at, NumberForm form, const Counting& counting,
                     const std::vector<DataRun>& runs) {
  const std::size_t none = grid.rows();
  std::vector<std::size_t> above(grid.rows(), none);
  std::set<std::size_t> folders;
  std::size_t count = 0;
  for (std::size_t row = 0; row < grid.rows(); ++row) {
    std::uint64_t value = grid.value(row, at, form);
    if (value == counting.none) continue;
    std::uint64_t folder = value - counting.first;
    if (folder >= none || folder == row || runs[folder].size != 0) return 0;
    above[row] = folder;
    folders.insert(folder);
    ++count;
  }
  return folders.size() >= kLeastFolders && leads_out(above, none) ? count : 0;
}

}  // namespace

std::string record_name(const Hypothesis& found, std::size_t row) {
  if (!found.grid.texts.empty()) return found.grid.texts[row];
  const Column* name = found.column(Role::name);
  if (name != nullptr) return text_of(found.grid, *name, row);
  return found.names && row < found.names->texts.size() ? found.names->texts[row] : "";
}

bool has_plain_names(const Hypothesis& found, NamelessFirst first) {
  for (std::size_t row = 0; row < found.grid.rows(); ++row) {
    std::string name = record_name(found, row);
    bool lacks = name.empty() && (row > 0 || first == NamelessFirst::not_at_all);
    if (lacks || name.find_first_of("/\\") != std::string::npos) return false;
  }
  return true;
}

void find_parents(Hypothesis& found) {
  const Grid& grid = found.grid;
  if (!grid.complete() || grid.rows() < kLeastRecords || (found.names && !found.names->place) ||
      !has_plain_names(found, NamelessFirst::not_at_all))
    return;
  std::vector<DataRun> runs = data_runs(found);
  std::vector<bool> free = free_bytes(found.columns, grid.shape.fixed(), ShortNames::are_texts);
  for (NumberForm form : kRecordForms) {
    for (Counting counting : {Counting{0, all_ones(form)}, {1, 0}}) {
      for (std::size_t at = 0; at + form.width <= grid.shape.fixed(); ++at) {
        if (!may_lie(grid, free, at, form)) continue;
        std::size_t count = children(grid, at, form, counting, runs);
        if (count == 0) continue;
        Column column{Role::parent, at, form, form.width};
        column.why = fmt::format("numbers of records without data, from {} on", counting.first);
        found.evidence.push_back(
            fmt::format("{} of {} records tell which one they lie in", count, grid.rows()));
        found.add(std::move(column));
        found.nesting = Nesting{Nesting::Kind::parent, counting.first, counting.none};
        return;
      }
    }
  }
}

}  // namespace operculum::study
