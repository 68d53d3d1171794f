#include "task/path_conflicts.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "base/text.h"
#include "base/units.h"

namespace operculum {
namespace {

/// How many paths have some conflict, and the first of them.
struct Conflict {
  std::uint64_t count = 0;
  std::string_view first;
  void add(std::string_view path) {
    if (count++ == 0) first = path;
  }
};

/// Paths in an order in which what lies in a folder follows at once: "a", "a/b", "a b".
bool before(std::string_view a, std::string_view b) {
  auto [at, other] = std::mismatch(a.begin(), a.end(), b.begin(), b.end());
  if (at == a.end() || other == b.end()) return a.size() < b.size();
  if (*at == '/' || *other == '/') return *at == '/';
  return static_cast<unsigned char>(*at) < static_cast<unsigned char>(*other);
}

}  // namespace

std::vector<Finding> path_conflicts(std::span<const Entry> entries) {
  std::vector<std::uint32_t> order(entries.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin(), order.end(),
            [&](std::uint32_t a, std::uint32_t b) { return before(entries[a].path, entries[b].path); });
  Conflict twice, both;
  for (std::size_t i = 0, end = 0; i < order.size(); i = end) {
    std::string_view path = entries[order[i]].path;
    std::size_t files = 0, folders = 0;
    for (end = i; end < order.size() && entries[order[end]].path == path; ++end)
      ++(entries[order[end]].kind == EntryKind::folder ? folders : files);
    if (end < order.size()) {
      std::string_view next = entries[order[end]].path;
      folders += next.starts_with(path) && next[path.size()] == '/' ? 1 : 0;
    }
    if (files > 1) twice.add(path);
    if (files > 0 && folders > 0) both.add(path);
  }
  std::vector<Finding> findings;
  auto tell = [&](const Conflict& conflict, std::string_view what) {
    if (conflict.count == 0) return;
    findings.push_back(
        {Finding::Level::warning, fmt::format("{} {}, the first is \"{}\"; `show` takes a number: \"{}~1\"",
                                              counted(conflict.count, "path is", "paths are"), what,
                                              escape(conflict.first), escape(conflict.first))});
  };
  tell(twice, "there more than once");
  tell(both, "a file and a folder at once");
  return findings;
}

}  // namespace operculum
