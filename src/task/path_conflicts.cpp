#include "task/path_conflicts.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>

#include "base/path_parts.h"
#include "base/text.h"
#include "base/text_marks.h"
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

/// The folders that entries lie in, whether or not they are entries themselves.
class Folders {
 public:
  void add(std::string_view folder) {
    constexpr int kMostLevels = 100;  // a path may have tens of thousands, and each is looked at as a whole
    // What lies side by side comes one behind the other.
    for (int i = 0; i < kMostLevels && !folder.empty() && folder != last_; ++i) {
      if (folders_.mark(folder, 1) != 0) return;  // and all above it
      folder = parent_of(folder);
    }
  }
  void add_of(std::string_view path) {
    std::string_view folder = parent_of(path);
    add(folder);
    last_ = folder;
  }
  bool has(std::string_view path) const { return folders_.find(path) != 0; }

 private:
  TextMarks folders_;
  std::string_view last_;
};

std::size_t hash_of(const Entry& entry) {
  return std::hash<std::string_view>()(entry.path);
}

/// The hashes that several files' paths have, ascending: of millions of paths few are looked at twice.
std::vector<std::size_t> repeated_hashes(std::span<const Entry> entries) {
  std::vector<std::size_t> all;
  for (const Entry& entry : entries)
    if (entry.kind != EntryKind::folder) all.push_back(hash_of(entry));
  std::ranges::sort(all);
  std::size_t kept = 0;
  for (std::size_t i = 1; i < all.size(); ++i) {
    bool again = all[i] == all[i - 1] && (kept == 0 || all[kept - 1] != all[i]);
    if (again) all[kept++] = all[i];
  }
  all.resize(kept);
  return all;
}

}  // namespace

std::vector<Finding> path_conflicts(std::span<const Entry> entries) {
  Conflict twice, both;
  TextMarks files, told_twice, told_both;
  Folders folders;
  const std::vector<std::size_t> repeated = repeated_hashes(entries);
  for (const Entry& entry : entries) {
    folders.add_of(entry.path);
    if (entry.kind == EntryKind::folder)
      folders.add(entry.path);
    else if (std::ranges::binary_search(repeated, hash_of(entry)) && files.mark(entry.path, 1) != 0 &&
             told_twice.mark(entry.path, 1) == 0)
      twice.add(entry.path);
  }
  for (const Entry& entry : entries)
    if (entry.kind != EntryKind::folder && folders.has(entry.path) && told_both.mark(entry.path, 1) == 0)
      both.add(entry.path);
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
