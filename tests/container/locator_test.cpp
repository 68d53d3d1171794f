#include "container/locator.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "codec/codec.h"
#include "support/refusal.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

struct LocatorTest : testing::Test {
  TempFolder temp;
  OpenContext context;
  Place at(const std::string& locator, Step step = Step::into) {
    return resolve(temp.path(locator), context, step);
  }
  static std::string text(const Place& place) {
    return std::string(as_text(read_all(*place.content->stream(), 1 << 20)));
  }
  void SetUp() override {
    Bytes inner = ZipBuilder().add("reef/crab.txt", "pinch").build();
    Bytes tar = TarBuilder().file("etc/hosts", "kiosk").add({.name = "pool.zip", .data = inner}).build();
    temp.write("box/card.tar.xz", encode("xz", tar));
    temp.write("notes.txt.gz", encode("gzip", to_bytes("high water")));
    temp.write("plain.txt", "no container");
  }
};

TEST_F(LocatorTest, StepsThroughLayersOfASingleStream) {
  Place place = at("box/card.tar.xz");
  ASSERT_EQ(place.layers.size(), 2u);
  EXPECT_EQ(place.layers[0].format->id, "xz");
  EXPECT_EQ(place.layers[1].format->id, "tar");
  EXPECT_TRUE(place.is_container());
  EXPECT_EQ(text(at("box/card.tar.xz/etc/hosts")), "kiosk");
  EXPECT_EQ(text(at("box/card.tar.xz/card.tar/etc/hosts")), "kiosk") << "naming the layer is allowed";
}

TEST_F(LocatorTest, GoesOnIntoContainers) {
  EXPECT_EQ(text(at("box/card.tar.xz/pool.zip/reef/crab.txt")), "pinch");
  EXPECT_EQ(at("box/card.tar.xz/pool.zip").layers.size(), 3u);
  Place bytes = at("box/card.tar.xz/pool.zip", Step::no_more);
  EXPECT_EQ(bytes.layers.size(), 2u);
  EXPECT_EQ(text(bytes).substr(0, 2), "PK");
  EXPECT_EQ(at("box/card.tar.xz/pool.zip/reef/").inside, "reef");
}

TEST_F(LocatorTest, OpensPackedTextAsItself) {
  EXPECT_EQ(text(at("notes.txt.gz", Step::no_more)), "high water");
  EXPECT_EQ(text(at("notes.txt.gz/notes.txt", Step::no_more)), "high water");
  EXPECT_EQ(text(at("plain.txt", Step::no_more)), "no container");
  EXPECT_TRUE(at("plain.txt").layers.empty());
}

TEST_F(LocatorTest, ExplainsWhatIsNotThere) {
  auto message = [&](const std::string& locator) -> std::string {
    try {
      at(locator);
    } catch (const Error& error) {
      return error.what();
    }
    return "found";
  };
  EXPECT_NE(
      message("box/card.tar.xz/pool.zip/reef/whelk").find("there is no entry \"reef/whelk\" in \"pool.zip\""),
      std::string::npos);
  EXPECT_NE(message("plain.txt/inside").find("\"plain.txt\" is no container that this program knows"),
            std::string::npos);
  EXPECT_NE(message("box/none.zip").find("No such file"), std::string::npos);
  EXPECT_NE(message("box").find("Is a directory"), std::string::npos);
  EXPECT_NE(message("box/card.tar.xz/etc/HOSTS").find("did you mean \"etc/hosts\"?"), std::string::npos);
}

TEST_F(LocatorTest, JoinsNumberedParts) {
  Bytes zip = ZipBuilder().stored("long.txt", Bytes(5000, 'x')).add("end", "omega").build();
  for (int part = 0; part < 3; ++part) {
    std::size_t from = zip.size() * static_cast<std::size_t>(part) / 3,
                to = zip.size() * static_cast<std::size_t>(part + 1) / 3;
    temp.write("set.zip.00" + std::to_string(part + 1), ByteView(zip).subspan(from, to - from));
  }
  EXPECT_EQ(text(at("set.zip.001/end")), "omega");
}

TEST_F(LocatorTest, TakesTheLastOfEntriesWithOneName) {
  temp.write("t.tar", TarBuilder().file("a", "old").file("a", "new").build());
  EXPECT_EQ(text(at("t.tar/a")), "new");
}

TEST_F(LocatorTest, StopsAtTheDepthLimit) {
  context.limits.max_depth = 2;
  EXPECT_NO_THROW(at("box/card.tar.xz/etc/hosts"));
  EXPECT_REFUSAL(at("box/card.tar.xz/pool.zip/reef/crab.txt"), LimitExceeded,
                 "more than 2 containers lie inside each other, as in files made to be endless; if that is "
                 "right, raise --max-depth");
}

TEST_F(LocatorTest, ReadsLittleToRecogniseALargeFile) {
  struct Counting final : Source {
    std::uint64_t size() const override { return std::uint64_t{8} << 30; }
    std::size_t read_at(std::uint64_t, ByteSpan out) const override {
      read += out.size();
      std::fill(out.begin(), out.end(), Byte{0});
      return out.size();
    }
    mutable std::uint64_t read = 0;
  };
  auto source = std::make_shared<Counting>();
  Probe probe(source, "large.img");
  EXPECT_EQ(recognise(probe), nullptr);
  EXPECT_LE(source->read, std::uint64_t{1} << 20);
}

}  // namespace
}  // namespace operculum
