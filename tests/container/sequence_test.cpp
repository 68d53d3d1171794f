#include <gtest/gtest.h>

#include "codec/codec.h"
#include "container/numbered_path.h"
#include "support/counting_source.h"
#include "support/open.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"

namespace operculum {
namespace {

using namespace test;

/// A tar within gzip, of which one byte after another has to be decoded.
struct PackedTar {
  std::shared_ptr<CountingSource> source;
  Held outer;
  std::unique_ptr<OpenContext> context = std::make_unique<OpenContext>();
  ContainerPtr tar;

  explicit PackedTar(const Bytes& bytes)
      : source(std::make_shared<CountingSource>(encode("gzip", bytes))), outer(open_source(source, "a.gz")) {
    Opened inner = open_container({outer->content(0), "a.tar", {}}, *context);
    tar = inner.container;
  }
  /// How often what is packed was read by the work.
  template <typename Work>
  double passes(Work work) const {
    std::uint64_t before = source->given;
    work();
    return static_cast<double>(source->given - before) / static_cast<double>(source->size());
  }
};

Bytes three_notes() {
  return TarBuilder()
      .add({.name = "deep/a.txt", .data = to_bytes("first")})
      .add({.name = "Notes.txt", .data = noise(1 << 20)})
      .add({.name = "deep/a.txt", .data = to_bytes("second")})
      .build();
}

TEST(Sequence, WhatIsNotThereIsKnownAfterOnePass) {
  PackedTar packed(three_notes());
  Lookup missing;
  EXPECT_LT(packed.passes([&] { missing = packed.tar->find("notes.txt"); }), 1.5);
  EXPECT_EQ(missing.kind, Lookup::Kind::nothing);
  EXPECT_EQ(missing.similar, "Notes.txt");
  EXPECT_LT(packed.passes([&] {
    for (int i = 0; i < 10; ++i) EXPECT_EQ(packed.tar->find("none").kind, Lookup::Kind::nothing);
  }),
            1.5)
      << "then all is listed";
}

TEST(Sequence, EntriesOfEqualPathsAreFoundByNumberInOnePass) {
  PackedTar packed(three_notes());
  Lookup second;
  EXPECT_LT(packed.passes([&] { second = packed.tar->find("deep/a~2.txt"); }), 1.5);
  ASSERT_EQ(second.kind, Lookup::Kind::entry);
  EXPECT_EQ(as_text(read_all(*second.open()->stream(), 100)), "second");
  EXPECT_EQ(second.consumed, std::string_view("deep/a~2.txt").size());
  EXPECT_EQ(packed.tar->find("deep/a~3.txt").kind, Lookup::Kind::nothing);
}

TEST(NumberedPath, IsOnlyWhatEndsANameBeforeItsEnding) {
  auto parsed = NumberedPath::parse("deep/a~12.tar.gz");
  ASSERT_TRUE(parsed);
  EXPECT_EQ(parsed->plain, "deep/a.tar.gz");
  EXPECT_EQ(parsed->number, 12u);
  EXPECT_EQ(NumberedPath::parse("a~2")->plain, "a");
  EXPECT_GE(NumberedPath::parse("a~99999999999999999999999")->number, 1u << 31);
  for (const char* other : {"a", "a~", "a~x", "a~2x", "a~2/b", ""})
    EXPECT_FALSE(NumberedPath::parse(other)) << other;
}

}  // namespace
}  // namespace operculum
