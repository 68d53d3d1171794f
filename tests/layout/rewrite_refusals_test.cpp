// What cannot be written back into a described container is told, with the reason.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "support/language_case.h"
#include "support/refusal.h"

namespace operculum::test {
namespace {

NewEntry with_text(const std::string& path, std::string_view text) {
  NewEntry entry;
  entry.path = path;
  entry.size = text.size();
  entry.content = make_content(make_memory_source(to_bytes(text)));
  return entry;
}

Changes replacing(std::size_t index, std::string_view text) {
  Changes changes;
  changes.replaced.emplace(index, with_text("a", text));
  return changes;
}

Changes adding(std::size_t count) {
  Changes changes;
  for (std::size_t i = 0; i < count; ++i) changes.added.push_back(with_text("new" + std::to_string(i), "x"));
  return changes;
}

constexpr const char* kOneEntry = "size = u32 at 0\nentry {\n  path = \"a\"\n  data = bytes(4, size)\n}\n";

TEST(DescribedRefusals, MethodsAreTheDescriptionsOwn) {
  Described d(kOneEntry, ByteWriter().u32(4).text("tide").take());
  EXPECT_EQ(d.rewritten(replacing(0, "high water"))->size(), 14u);
  EXPECT_REFUSAL(d.rewritten(replacing(0, "high water"), {.method = "deflate"}), Unsupported,
                 "--method in a described format, which says itself how it packs");
}

TEST(DescribedRefusals, BytesThatComeFromSeveralPlaces) {
  Described d("entry {\n  path = \"a\"\n  data = concat(bytes(0, 2), bytes(3, 2))\n}\n",
              ByteWriter().text("ti-de").take());
  EXPECT_EQ(d.content("a"), "tide");
  EXPECT_REFUSAL(d.rewritten(replacing(0, "ebb")), Unsupported,
                 "the bytes of \"a\" are no single run of the file");
}

TEST(DescribedRefusals, WhatShowsNoWay) {
  Described none(
      "record R {\n  size u32\n}\nrows = R[u32 at 0] at 4\nentry for r in rows {\n  path = \"a\"\n  data = "
      "bytes(0, r.size)\n}\n",
      ByteWriter().u32(0).take());
  EXPECT_REFUSAL(none.rewritten(adding(1)), Unsupported,
                 "in a described container without entries, whose rows would show how");
  Described one(kOneEntry, ByteWriter().u32(4).text("tide").take());
  EXPECT_REFUSAL(one.rewritten(adding(4097)), Unsupported,
                 "adding, removing and renaming more than 4096 entries of a described format at once");
}

TEST(DescribedRefusals, AChecksumWithoutAPlace) {
  Bytes data = ByteWriter().u32(4).text("tide").take();
  std::uint32_t sum = crc32(0, as_bytes("tide"));
  Described d("size = u32 at 0\nentry {\n  path = \"a\"\n  data = bytes(4, size)\n  crc32 = " +
                  std::to_string(sum) + "\n}\n",
              data);
  EXPECT_EQ(d.content("a"), "tide");
  EXPECT_REFUSAL(d.rewritten(replacing(0, "ebb!")), Unsupported, "the place of the checksum");
}

}  // namespace
}  // namespace operculum::test
