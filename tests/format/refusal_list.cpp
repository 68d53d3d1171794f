#include "format/refusal_list.h"

#include <fmt/format.h>

#include <fstream>

#include "base/text.h"

namespace operculum::test {

std::vector<RefusalRow> refusal_rows() {
  std::vector<RefusalRow> all;
  std::ifstream file(std::string(OPERCULUM_SOURCE) + "/tests/fixtures/refusals.txt");
  for (std::string line; std::getline(file, line);) {
    if (line.empty() || line[0] == '#') continue;
    auto parts = split(line, '\t');
    RefusalRow row{std::string(parts.front()), {}, std::string(parts.back())};
    for (std::size_t i = 1; i + 2 < parts.size(); i += 2)
      row.changes.push_back(
          {std::stoull(std::string(parts[i]), nullptr, 16), from_hex(parts[i + 1]).value()});
    all.push_back(std::move(row));
  }
  return all;
}

std::string written(const Damage& changes) {
  std::string text;
  for (const ChangedBytes& change : changes)
    text += fmt::format("\t{:x}\t{}", change.at, to_hex(change.bytes));
  return text;
}

}  // namespace operculum::test
