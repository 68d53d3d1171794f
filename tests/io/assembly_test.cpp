#include "io/assembly.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "io/file_source.h"
#include "support/byte_writer.h"
#include "support/refusal.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

std::string text_of(const Source& source) {
  return std::string(as_text(read_up_to(source, 0, source.size())));
}

TEST(Assembly, JoinsRunsThatLieBehindEachOther) {
  SourcePtr original = make_memory_source(to_bytes("high water at noon"));
  Assembly assembly;
  assembly.add(original, 0, 5);
  assembly.add(original, 5, 5);
  assembly.add(to_bytes(" never"));
  assembly.add(original, 10, 8);
  ASSERT_EQ(assembly.runs().size(), 3u);
  EXPECT_EQ(assembly.runs()[0].length, 10u);
  EXPECT_EQ(assembly.size(), 24u);
  EXPECT_EQ(text_of(*assembly.source()), "high water never at noon");
  EXPECT_EQ(assembly.kept_of(*original), 18u);
}

TEST(Assembly, OfAnotherOneKeepsWhatItKept) {
  SourcePtr original = make_memory_source(to_bytes("0123456789"));
  Assembly inner;
  inner.add(original, 2, 6);
  Assembly outer;
  outer.add(to_bytes("<"));
  outer.add(inner);
  outer.add(to_bytes(">"));
  EXPECT_EQ(text_of(*outer.source()), "<234567>");
  EXPECT_EQ(outer.kept_of(*original), 6u);
}

TEST(Assembly, IsWrittenFromFilesMemoryAndHoles) {
  TempFolder folder;
  std::string big(300'000, 'k');
  folder.write("original", big);
  Assembly assembly;
  assembly.add(open_file(folder.path("original")), 1000, 200'000);
  assembly.add(to_bytes("new"));
  assembly.add_zeros(1 << 20);
  assembly.add(to_bytes("end"));
  OutputFolder out(folder.path());
  OutputFile file = out.begin_file("written");
  std::uint64_t last = 0;
  write_assembly(assembly, file, [&](std::uint64_t done) { last = done; });
  EXPECT_EQ(last, assembly.size());
  EXPECT_EQ(text_of(*file.written()), std::string(200'000, 'k') + "new" + std::string(1 << 20, '\0') + "end");
  EXPECT_FALSE(folder.has("written"));  // not before it is committed
  EXPECT_EQ(file.commit({}, Existing::keep), "written");
  EXPECT_EQ(folder.read("written").size(), assembly.size());
}

TEST(Assembly, TellsWhenASourceBecameShorter) {
  TempFolder folder;
  folder.write("original", std::string(5000, 'x'));
  Assembly assembly;
  assembly.add(open_file(folder.path("original")), 0, 5000);
  std::filesystem::resize_file(folder.path("original"), 100);
  OutputFolder out(folder.path());
  OutputFile file = out.begin_file("written");
  EXPECT_REFUSAL(write_assembly(assembly, file, [](std::uint64_t) {}), CutShort,
                 "expected 5000 bytes from offset 0 on, found 100; the file became shorter");
}

TEST(OutputFile, KeepsWhatItReplacesUnderANameThatIsFree) {
  TempFolder folder;
  folder.write("log", "old");
  folder.write("log.before", "older");
  OutputFolder out(folder.path());
  OutputFile file = out.begin_file("log");
  file.write(to_bytes("new"));
  file.keep_replaced_as("log.before");
  file.make_durable();
  EXPECT_EQ(file.commit({}, Existing::replace), "log");
  EXPECT_EQ(folder.read("log"), "new");
  EXPECT_EQ(folder.read("log.before"), "older");
  EXPECT_EQ(folder.read(file.replaced()), "old");
}

TEST(Trace, FollowsBytesThroughSourcesToTheOneTheyLieIn) {
  SourcePtr base = make_memory_source(to_bytes("0123456789"));
  SourcePtr part =
      make_joined({make_slice(base, 6, 3), make_memory_source(to_bytes("x")), make_slice(base, 1, 4)});
  auto place = trace(*part, 1, *base);
  ASSERT_TRUE(place);
  EXPECT_EQ(place->at, 7u);
  EXPECT_EQ(place->length, 2u);
  EXPECT_FALSE(trace(*part, 3, *base));  // bytes of its own
  EXPECT_EQ(trace(*part, 5, *base)->at, 2u);
  EXPECT_FALSE(trace(*part, 8, *base));  // the end
}

TEST(Assembly, WhatASourceDoesNotHaveIsRefused) {
  SourcePtr source = make_memory_source(Bytes(100));
  Assembly made;
  made.add(source, 90, 10);
  EXPECT_REFUSAL(made.add(source, 90, 11), CutShort,
                 "11 bytes from 90 on are to be kept, but the file ends after 100; it is cut short");
  EXPECT_REFUSAL(made.add(source, 101, UINT64_MAX), CutShort, "the file ends after 100");
  EXPECT_EQ(made.kept_of(*source), 10u);
}

}  // namespace
}  // namespace operculum::test
