// Listings that keep no entries say the same as those that do.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/language_case.h"
#include "support/open_pack.h"
#include "support/refusal.h"

namespace operculum {
namespace {

using namespace test;

std::string line_of(const Entry& entry) {
  return fmt::format("{} {} {} {} {} {:x} {} {}\n", entry.path, static_cast<int>(entry.kind), entry.size,
                     entry.stored_size, entry.method, entry.crc32, entry.flags, entry.link_target());
}

TEST(DescribedListing, PassedByOrKeptIsTheSame) {
  for (std::size_t number = 0; number < kPacks; ++number) {
    const Pack& pack = pack_number(number);
    OpenPack opened(pack, pack.bytes);
    std::string passed, paths, kept, kept_paths;
    opened.container->each(Detail::all, [&](const Entry& entry) { passed += line_of(entry); });
    opened.container->each(Detail::paths, [&](const Entry& entry) { paths += entry.path + "\n"; });
    std::vector<Finding> before = opened.container->findings();
    for (const Entry& entry : opened.container->entries()) {
      kept += line_of(entry);
      kept_paths += entry.path + "\n";
    }
    EXPECT_EQ(passed, kept) << pack.layout;
    EXPECT_EQ(paths, kept_paths) << pack.layout;
    EXPECT_EQ(opened.container->findings(), before) << pack.layout << ": told once";
    std::string again;
    opened.container->each(Detail::all, [&](const Entry& entry) { again += line_of(entry); });
    EXPECT_EQ(again, kept) << pack.layout;
  }
}

TEST(DescribedListing, NumbersNamelessEntriesAndOtherPathsAlike) {
  const char* text = R"(
    entry for i in range(0, 4) {
      path = if i == 2 then "" else "a{i}"
      also = if i == 3 then "b" else nothing
      data = bytes(i, 1)
    })";
  layout::Compiled compiled = layout::compile({"test.layout", std::string("layout \"Test\"\n") + text});
  ASSERT_TRUE(compiled.plan);
  OpenContext context;
  SourcePtr source = make_memory_source(Bytes(4, 'x'));
  auto container = layout::open_described(compiled.plan, {make_content(source), "t"}, source, context);
  std::string passed, kept;
  container->each(Detail::paths, [&](const Entry& entry) { passed += entry.path + " "; });
  for (const Entry& entry : container->entries()) kept += entry.path + " ";
  EXPECT_EQ(passed, "a0 a1 entry-3 a3 b ");
  EXPECT_EQ(kept, passed);
}

TEST(DescribedListing, KeepsNoMemoryOfWhatPassesBy) {
  layout::Compiled compiled = layout::compile(
      {"test.layout",
       "layout \"Test\"\nentry for i in u8[] to end at 0 { path = \"a{i}\"; data = bytes(0, 1) }"});
  ASSERT_TRUE(compiled.plan);
  OpenContext context;
  context.limits.max_memory = 64 << 10;  // a thousand entries would take more
  SourcePtr source = make_memory_source(Bytes(1000, 7));
  auto container = layout::open_described(compiled.plan, {make_content(source), "t"}, source, context);
  std::size_t count = 0;
  container->each(Detail::all, [&](const Entry&) { ++count; });
  EXPECT_EQ(count, 1000u);
  EXPECT_REFUSAL(
      container->entries(), LimitExceeded,
      "listing a file of 0 B takes more than 64.0 KiB of memory; if that is right, raise --max-memory");
}

}  // namespace
}  // namespace operculum
