#include "layout/rewrite/rows.h"

#include <algorithm>
#include <set>

#include "layout/rewrite/name_parts.h"

namespace operculum::layout {
namespace {

std::uint64_t end_of(const ListSeen& list, std::size_t number) {
  return number + 1 < list.begins.size() ? list.begins[number + 1] : list.end;
}

}  // namespace

std::optional<Row> row_at(const ListSeen& list, std::uint64_t at) {
  if (list.begins.empty() || at < list.begins.front() || at >= list.end) return std::nullopt;
  auto behind = std::upper_bound(list.begins.begin(), list.begins.end(), at);
  auto number = static_cast<std::size_t>(behind - list.begins.begin()) - 1;
  return Row{&list, number, list.begins[number], end_of(list, number)};
}

namespace {

/// Adds rows that are not there yet, the smallest first.
void add_rows(std::vector<Row>& out, std::vector<Row> rows) {
  std::stable_sort(rows.begin(), rows.end(),
                   [](const Row& a, const Row& b) { return a.end - a.begin < b.end - b.begin; });
  for (const Row& row : rows) {
    bool known = std::any_of(out.begin(), out.end(), [&](const Row& one) {
      return one.begin == row.begin && one.end == row.end &&
             one.list->begins.size() == row.list->begins.size();
    });
    if (!known && row.end > row.begin) out.push_back(row);
  }
}

/// Those of which numbers were read to find the entry's bytes.
std::vector<Row> rows_read_for(const Survey& survey, std::size_t index) {
  constexpr std::size_t kMostNumbers = 64;
  std::vector<Row> out;
  const std::vector<NumberRead>& reads = survey.looks[index].reads.numbers;
  for (const ListSeen& list : survey.head.lists) {
    for (std::size_t i = 0; i < std::min(reads.size(), kMostNumbers); ++i)
      if (auto row = row_at(list, reads[i].at)) out.push_back(*row);
  }
  return out;
}

/// Those with the number that was read last before the entry's name was: where the name lies apart.
std::vector<Row> rows_naming(const Survey& survey, const std::vector<NamePart>& names) {
  std::vector<Row> out;
  for (const NamePart& part : names) {
    std::vector<NumberRead> numbers = numbers_before(survey, part.read->numbers);
    for (const ListSeen& list : survey.head.lists)
      if (auto row = numbers.empty() ? std::nullopt : row_at(list, numbers.front().at)) out.push_back(*row);
  }
  return out;
}

}  // namespace

std::vector<Row> rows_of(const Survey& survey, std::size_t index) {
  std::vector<Row> out, both, either;
  std::span<const Entry> entries = survey.container->entries();
  const Extent& extent = survey.extents[index];
  bool has_bytes = extent.there && extent.length > 0;
  const std::string& path = entries[index].path;
  std::vector<NamePart> names = name_parts(survey, path, path);
  for (const ListSeen& list : survey.head.lists) {
    if (list.begins.size() == entries.size())
      out.push_back({&list, index, list.begins[index], end_of(list, index)});
    std::optional<Row> of_bytes = has_bytes ? row_at(list, extent.at) : std::nullopt;
    if (of_bytes && extent.at + extent.length > of_bytes->end) of_bytes.reset();
    if (of_bytes) either.push_back(*of_bytes);
    for (const NamePart& part : names) {
      auto of_name = row_at(list, part.read->at);
      if (!of_name) continue;
      bool same = of_bytes && of_bytes->number == of_name->number;
      (same ? both : either).push_back(*of_name);
    }
  }
  add_rows(out, std::move(both));
  add_rows(out, std::move(either));
  add_rows(out, rows_read_for(survey, index));
  add_rows(out, rows_naming(survey, names));
  return out;
}

std::vector<NumberChange> count_change(const Survey& survey, const ListSeen& list, std::int64_t by) {
  if (!list.counted) return {};
  const NumberRead* found =
      survey.finder.last_equal(static_cast<std::int64_t>(list.begins.size()), list.numbers);
  if (found == nullptr) return {};
  return {{*found, by}};
}

std::vector<std::vector<NumberChange>> element_numbers(const Survey& survey, const ListSeen& list,
                                                       std::size_t first, std::int64_t by) {
  constexpr std::size_t kMostFields = 8;
  auto most = static_cast<std::int64_t>(list.begins.size());
  std::map<const NumberPlan*, std::vector<NumberChange>> fields;
  std::set<std::uint64_t> seen;
  for (const NumberRead& read : survey.head.numbers) {
    bool inside = read.at >= list.begins.front() && read.at < list.end;
    if (!inside || read.value < static_cast<std::int64_t>(first) || read.value > most) continue;
    if (fields.size() == kMostFields && !fields.contains(read.plan)) continue;
    if (seen.insert(read.at).second) fields[read.plan].push_back({read, by});
  }
  std::vector<std::vector<NumberChange>> out;
  out.reserve(fields.size());
  for (auto& [plan, changes] : fields) out.push_back(std::move(changes));
  std::stable_sort(out.begin(), out.end(), [](const auto& a, const auto& b) {
    return a.front().read.at < b.front().read.at;  // not by where the plans lie in memory
  });
  return out;
}

}  // namespace operculum::layout
