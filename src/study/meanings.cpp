#include "study/meanings.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/sum_kinds.h"
#include "study/name_hashes.h"
#include "study/nesting.h"
#include "study/packing.h"
#include "study/parents.h"
#include "study/text_test.h"
#include "study/trial.h"

namespace operculum::study {
namespace {

constexpr std::size_t kRowsSummed = 8, kLeastSummed = 3, kLeastTimes = 6;
constexpr std::uint64_t kMostSummed = 4 << 20;          // bytes of an entry
constexpr std::uint64_t kMostYears = 30 * 31557600ull;  // seconds

/// A row, and the bytes of its entry.
struct Entry {
  std::size_t row;
  Bytes bytes;
};

/// The first entries, unpacked as the draft says.
std::vector<Entry> unpacked(const Hypothesis& found, const std::string& draft, const Subject& subject,
                            OpenContext& context) {
  std::vector<Entry> entries;
  std::string problem;
  auto container = open_draft(draft, subject, context, nullptr, problem);
  if (!container) return entries;
  std::size_t count = std::min(container->entries().size(), found.grid.rows());
  for (std::size_t i = 0; i < count && entries.size() < kRowsSummed; ++i) {
    Bytes bytes = read_all(*container->content(i)->stream(), kMostSummed);
    if (!bytes.empty()) entries.push_back({i, std::move(bytes)});
  }
  return entries;
}

/// The same as they lie there.
std::vector<Entry> stored(const Hypothesis& found, const Subject& subject) {
  std::vector<Entry> entries;
  std::vector<DataRun> runs = data_runs(found);
  for (std::size_t i = 0; i < runs.size() && entries.size() < kRowsSummed; ++i) {
    if (runs[i].size > 0 && runs[i].size <= kMostSummed)
      entries.push_back({i, subject.read(runs[i].at, runs[i].size)});
  }
  return entries;
}

/// Where fixed bytes that mean nothing so far hold what `holds` says; nothing when they do not.
template <typename Holds>
std::optional<Column> find_column(const Hypothesis& found, std::size_t width, const Holds& holds) {
  const Grid& grid = found.grid;
  std::vector<bool> free = free_bytes(found.columns, grid.shape.fixed(), ShortNames::are_texts);
  for (std::size_t at = 0; at + width <= grid.shape.fixed(); ++at) {
    if (!may_lie(grid, free, at, {static_cast<unsigned>(width), false})) continue;
    if (auto column = holds(at)) return column;
  }
  return std::nullopt;
}

/// Whether all these entries have the sum at `at` of their records, and in which form.
std::optional<Column> sum_at(const Grid& grid, std::size_t at, const SumKind& kind,
                             const std::vector<Entry>& entries, const std::vector<Bytes>& sums) {
  for (bool big : {false, true}) {
    if (big && !kind.number) break;
    std::set<Bytes> distinct;
    bool fits = true;
    for (std::size_t i = 0; fits && i < entries.size(); ++i) {
      const Byte* here = grid.row(entries[i].row) + at;
      Bytes value(here, here + kind.bytes);
      if (kind.number && !big) std::reverse(value.begin(), value.end());
      fits = value == sums[i];
      distinct.insert(std::move(value));
    }
    if (!fits || distinct.size() < 2) continue;
    Column column{Role::sum, at, {kind.number ? static_cast<unsigned>(kind.bytes) : 0, big}, kind.bytes};
    return column;
  }
  return std::nullopt;
}

/// A column that is some checksum or digest of these bytes.
bool find_sums(Hypothesis& found, const std::vector<Entry>& entries, std::string_view of) {
  if (entries.size() < kLeastSummed) return false;
  for (const SumKind& kind : sum_kinds()) {
    if (kind.number && kind.bytes != 2 && kind.bytes != 4) continue;
    if (kind.bytes == 2 && entries.size() < kRowsSummed) continue;
    if (kind.bytes > found.grid.shape.fixed()) continue;
    std::vector<Bytes> sums;
    for (const Entry& entry : entries) {
      auto sum = kind.make({});
      sum->add(entry.bytes);
      sums.push_back(sum->finish());
    }
    auto column = find_column(found, kind.bytes,
                              [&](std::size_t at) { return sum_at(found.grid, at, kind, entries, sums); });
    if (!column) continue;
    column->detail = fmt::format("{} of {}", kind.name, of);
    column->why = fmt::format("is the {} of what {} of {} entries hold{}", kind.name, entries.size(),
                              entries.size(), of == "stored" ? ", as it lies there" : "");
    found.evidence.push_back(fmt::format("the records tell the {} of their entries", kind.name));
    found.add(std::move(*column));
    return true;
  }
  return false;
}

/// A column that is a time: numbers within some decades, most of them different.
void find_time(Hypothesis& found) {
  const Grid& grid = found.grid;
  for (bool big : {false, true}) {
    auto column = find_column(found, 4, [&](std::size_t at) -> std::optional<Column> {
      std::uint64_t least = UINT64_MAX, most = 0;
      std::size_t printed = 0;  // times whose bytes are letters and digits
      std::set<std::uint64_t> distinct;
      for (std::size_t row = 0; row < grid.rows(); ++row) {
        std::uint64_t value = grid.value(row, at, {4, big});
        if (!could_be_time(value)) return std::nullopt;
        printed += std::all_of(grid.row(row) + at, grid.row(row) + at + 4, is_ascii_name_byte) ? 1 : 0;
        least = std::min(least, value);
        most = std::max(most, value);
        distinct.insert(value);
      }
      if (printed * 2 > grid.rows()) return std::nullopt;  // a text of digits
      if (grid.rows() < kLeastTimes || distinct.size() < 3 || most - least > kMostYears) return std::nullopt;
      return Column{Role::time, at, {4, big}, 4};
    });
    if (!column) continue;
    column->why = "could be seconds since 1970: all lie within some years";
    found.add(std::move(*column));
    return;
  }
}

}  // namespace

void explain_rest(Hypothesis& found, const std::string& draft, const Subject& subject, OpenContext& context) {
  if (!found.grid.words.empty() || found.grid.shape.fixed() == 0) return;
  try {
    if (!find_sums(found, unpacked(found, draft, subject, context), "data"))
      find_sums(found, stored(found, subject), "stored");
  } catch (const Error&) {
    // What cannot be read has no sums.
  }
  find_time(found);
  find_parents(found);
  find_nesting(found);
  find_name_hashes(found, context.known_names);
}

}  // namespace operculum::study
