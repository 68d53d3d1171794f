#include "task/path_conflicts.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

Entry entry(const std::string& path, EntryKind kind = EntryKind::file) {
  Entry made;
  made.path = path;
  made.kind = kind;
  return made;
}

TEST(PathConflicts, TellsPathsThatStandForMoreThanOneThing) {
  std::vector<Entry> entries;
  for (const char* path : {"b", "a b", "a", "c", "a/deep/er", "c", "c", "b!", "d/e"})
    entries.push_back(entry(path));
  entries.push_back(entry("b", EntryKind::folder));
  entries.push_back(entry("d", EntryKind::folder));
  entries.push_back(entry("d", EntryKind::folder));
  std::vector<Finding> found = path_conflicts(entries);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].text,
            "1 path is there more than once, the first is \"c\"; `show` takes a number: \"c~1\"");
  EXPECT_EQ(found[1].text,
            "2 paths are a file and a folder at once, the first is \"b\"; `show` takes a number: \"b~1\"");
}

TEST(PathConflicts, SaysNothingOfUsualTrees) {
  std::vector<Entry> entries;
  entries.push_back(entry("a", EntryKind::folder));
  for (const char* path : {"a/b", "a-b", "ab/c", ""}) entries.push_back(entry(path));
  EXPECT_TRUE(path_conflicts(entries).empty());
}

}  // namespace
}  // namespace operculum
