#include "study/name_hashes.h"

#include <fmt/format.h>

#include <unordered_set>

#include "base/sum_kinds.h"
#include "base/text.h"

namespace operculum::study {
namespace {

constexpr std::size_t kLeastHashesMet = 3;  // hashes of names: one of 32 bits is met by chance once in 2^32

using Hashes = std::unordered_set<std::uint64_t>;

Hashes hashes_of(const NameHash& hash, std::span<const std::string> known, bool lower) {
  Hashes all;
  for (const std::string& name : known) all.insert(hash.of(lower ? to_lower(name) : name));
  return all;
}

/// How many different rows of a column are hashes of names.
std::size_t met(const Grid& grid, std::size_t at, NumberForm form, const Hashes& hashes) {
  Hashes distinct;
  for (std::size_t row = 0; row < grid.rows(); ++row) {
    std::uint64_t value = grid.value(row, at, form);
    if (hashes.contains(value)) distinct.insert(value);
  }
  return distinct.size();
}

}  // namespace

void find_name_hashes(Hypothesis& found, std::span<const std::string> known) {
  const Grid& grid = found.grid;
  bool named = found.names || grid.shape.text != TextEnd::none || found.column(Role::name) != nullptr;
  if (known.size() < kLeastHashesMet || named) return;
  std::vector<bool> free = free_bytes(found.columns, grid.shape.fixed(), ShortNames::are_texts);
  std::optional<Column> best;
  std::size_t most = kLeastHashesMet - 1;
  for (const NameHash& hash : name_hashes()) {
    for (bool lower : {false, true}) {
      Hashes hashes = hashes_of(hash, known, lower);
      for (NumberForm form : kWideForms) {
        for (std::size_t at = 0; at + form.width <= grid.shape.fixed(); ++at) {
          if (!may_lie(grid, free, at, form)) continue;
          std::size_t count = met(grid, at, form, hashes);
          if (count <= most) continue;
          most = count;
          best = Column{Role::hash, at, form, form.width};
          best->detail = fmt::format("{}, item.hash{}", hash.name, lower ? ", lower" : "");
          best->why = fmt::format("is {} of {} names that are known", hash.name, count);
        }
      }
    }
  }
  if (!best) return;
  found.evidence.push_back(fmt::format("{} records have the hash of a name that is known", most));
  found.add(*std::move(best));
}

}  // namespace operculum::study
