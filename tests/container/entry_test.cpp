#include "container/entry.h"

#include <gtest/gtest.h>
#include <sys/stat.h>

namespace operculum {
namespace {

TEST(EntryPath, IsCleanOfWhatSaysNothing) {
  EXPECT_EQ(clean_path("pool/crab.txt"), "pool/crab.txt");
  EXPECT_EQ(clean_path("./pool/crab.txt"), "pool/crab.txt");
  EXPECT_EQ(clean_path("././/pool//"), "pool");
  EXPECT_EQ(clean_path("./"), ".");
  EXPECT_EQ(clean_path(""), ".");
  EXPECT_EQ(clean_path("/"), "/");
  EXPECT_EQ(clean_path("/pool/"), "/pool");
  EXPECT_EQ(clean_path(".pool"), ".pool");
  EXPECT_EQ(clean_path("../pool"), "../pool") << "what climbs is told elsewhere";
}

TEST(EntryPath, EndsWithItsName) {
  EXPECT_EQ(base_name("pool/deep/crab.txt"), "crab.txt");
  EXPECT_EQ(base_name("crab.txt"), "crab.txt");
  EXPECT_EQ(base_name("pool/deep/"), "deep");
  EXPECT_EQ(base_name("/"), "");
  EXPECT_EQ(base_name(""), "");
}

TEST(EntryKinds, AreThoseOfAMode) {
  EXPECT_EQ(kind_of_mode(S_IFREG | 0644), EntryKind::file);
  EXPECT_EQ(kind_of_mode(S_IFDIR | 0755), EntryKind::folder);
  EXPECT_EQ(kind_of_mode(S_IFLNK | 0777), EntryKind::symbolic_link);
  EXPECT_EQ(kind_of_mode(S_IFCHR), EntryKind::character_device);
  EXPECT_EQ(kind_of_mode(S_IFBLK), EntryKind::block_device);
  EXPECT_EQ(kind_of_mode(S_IFIFO), EntryKind::fifo);
  EXPECT_EQ(kind_of_mode(S_IFSOCK), EntryKind::socket);
  EXPECT_EQ(kind_of_mode(0644), EntryKind::file) << "no type at all";
  EXPECT_EQ(kind_of_mode(0xF000), EntryKind::file) << "one that does not exist";
}

TEST(EntryKinds, HaveNames) {
  EXPECT_EQ(name_of(EntryKind::file), "file");
  EXPECT_EQ(name_of(EntryKind::symbolic_link), "link");
  EXPECT_EQ(name_of(EntryKind::hard_link), "hard link");
  EXPECT_EQ(name_of(EntryKind::socket), "socket");
  EXPECT_EQ(name_of(static_cast<EntryKind>(99)), "unknown");
}

Entry sample() {
  Entry entry;
  entry.path = "pool/crab.txt";
  entry.size = 5;
  entry.stored_size = 4;
  entry.stored_at = 77;
  entry.modified = {1'700'000'000, 5, true};
  entry.method = "deflate";
  entry.mode = 0640;
  entry.crc32 = 0x1234;
  entry.flags = Entry::has_crc | Entry::sparse;
  entry.extras().owner = "technician";
  entry.extras().attributes.emplace_back("user.origin", "north");
  return entry;
}

TEST(EntryCopy, SaysTheSameAndSharesNothing) {
  Entry entry = sample(), copy = copy_of(entry);
  EXPECT_EQ(copy.path, entry.path);
  EXPECT_EQ(copy.size, 5u);
  EXPECT_EQ(copy.stored_size, 4u);
  EXPECT_EQ(copy.stored_at, 77u);
  EXPECT_EQ(copy.modified.seconds, 1'700'000'000);
  EXPECT_TRUE(copy.modified.floating);
  EXPECT_EQ(copy.method, "deflate");
  EXPECT_EQ(copy.mode, 0640u);
  EXPECT_EQ(copy.crc32, 0x1234u);
  EXPECT_TRUE(copy.is(Entry::has_crc));
  EXPECT_TRUE(copy.is(Entry::sparse));
  EXPECT_FALSE(copy.is(Entry::damaged));
  entry.extras().owner = "visitor";
  EXPECT_EQ(copy.extras().owner, "technician");
  EXPECT_EQ(copy.extras().attributes.size(), 1u);
}

TEST(EntryMemory, CountsWhatHangsOnIt) {
  Entry small;
  EXPECT_GE(memory_of(small), sizeof(Entry));
  Entry large;
  large.path = std::string(1000, 'p');
  EXPECT_GE(memory_of(large), sizeof(Entry) + 1000);
  Entry with_extras = sample();
  std::size_t before = memory_of(with_extras);
  with_extras.extras().comment = std::string(5000, 'c');
  EXPECT_GE(memory_of(with_extras), before + 4000);
  with_extras.extras().attributes.emplace_back("user.chart", std::string(3000, 'v'));
  EXPECT_GE(memory_of(with_extras), before + 7000);
}

TEST(EntryFacts, AreUnknownUntilTheyAreSaid) {
  Entry entry;
  EXPECT_FALSE(entry.size_known());
  EXPECT_TRUE(entry.has_data());
  EXPECT_EQ(entry.mode, Entry::kNoMode);
  EXPECT_EQ(entry.link_target(), "");
  entry.kind = EntryKind::symbolic_link;
  entry.extras().link_target = "deep";
  EXPECT_FALSE(entry.has_data());
  EXPECT_EQ(entry.link_target(), "deep");
}

}  // namespace
}  // namespace operculum
