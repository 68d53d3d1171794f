#include "collection/content_search.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/byte_writer.h"
#include "support/refusal.h"

namespace operculum::test {
namespace {

/// Searches bytes given in pieces of `step`.
std::vector<ContentHit> search(const Needles& needles, ByteView bytes, std::size_t step,
                               std::size_t most = 100) {
  ContentSearch search(needles, most);
  for (std::size_t at = 0; at < bytes.size(); at += step)
    search.add(bytes.subspan(at, std::min(step, bytes.size() - at)));
  search.finish();
  return search.hits();
}

TEST(ContentSearch, FindsATextWhereverPiecesAreCut) {
  std::string text(5000, '.');
  text.replace(1023, 9, "low water");
  text.replace(4991, 9, "low water");
  Needles needles;
  needles.add_text("low water", Glob::Case::exact);
  for (std::size_t step : {1u, 7u, 1000u, 1024u, 1030u, 5000u}) {
    std::vector<ContentHit> hits = search(needles, as_bytes(text), step);
    ASSERT_EQ(hits.size(), 2u) << step;
    EXPECT_EQ(hits[0].at, 1023u);
    EXPECT_EQ(hits[1].at, 4991u);
  }
}

TEST(ContentSearch, TellsTheLineAndItsNumber) {
  std::string text;
  for (int i = 1; i < 2000; ++i) text += "line " + std::to_string(i) + "\n";
  text += "the mark was under water\n";
  Needles needles;
  needles.add_text("under", Glob::Case::exact);
  std::vector<ContentHit> hits = search(needles, as_bytes(text), 300);
  ASSERT_EQ(hits.size(), 1u);
  EXPECT_EQ(hits[0].line, 2000u);
  EXPECT_EQ(hits[0].excerpt, "the mark was under water");
  EXPECT_EQ(hits[0].encoding, "UTF-8");
}

TEST(ContentSearch, FindsOtherEncodings) {
  Needles needles;
  needles.add_text("Flut bei Hörn", Glob::Case::exact, {"CP437"});
  auto hits = [&](std::string_view bytes) { return search(needles, as_bytes(bytes), 64); };
  std::string wide("\xff\xfe"), old = "xx Flut bei H\x94rn";
  for (char16_t c : std::u16string(u"Flut bei Hörn")) {
    wide.push_back(static_cast<char>(c & 0xff));
    wide.push_back(static_cast<char>(c >> 8));
  }
  ASSERT_EQ(hits(wide).size(), 1u);
  EXPECT_EQ(hits(wide)[0].encoding, "UTF-16LE");
  EXPECT_EQ(hits(wide)[0].excerpt, "Flut bei Hörn");
  ASSERT_EQ(hits(old).size(), 1u);
  EXPECT_EQ(hits(old)[0].encoding, "CP437");
  EXPECT_EQ(hits(old)[0].excerpt, "xx Flut bei Hörn");
  EXPECT_REFUSAL(
      Needles().add_text("x", Glob::Case::exact, {"NO-SUCH-CODE"}), Unsupported,
      "Unsupported: text encoding \"NO-SUCH-CODE\"; `iconv -l` lists the names this machine knows");
}

TEST(ContentSearch, IgnoresCaseOnlyWhenAsked) {
  Needles exact, any;
  exact.add_text("High Water", Glob::Case::exact);
  any.add_text("High Water", Glob::Case::ignored);
  EXPECT_EQ(search(exact, as_bytes("HIGH WATER"), 4).size(), 0u);
  ASSERT_EQ(search(any, as_bytes("HIGH WATER"), 4).size(), 1u);
  EXPECT_EQ(search(any, as_bytes("HIGH WATER"), 4)[0].excerpt, "HIGH WATER");
}

TEST(ContentSearch, FindsBytesAndKeepsNoMoreThanAsked) {
  Needles needles;
  needles.add_bytes({0, 1, 2});
  Bytes bytes;
  for (int i = 0; i < 1000; ++i) bytes.insert(bytes.end(), {0, 1, 2, 3});
  std::vector<ContentHit> hits = search(needles, bytes, 100, 3);
  ASSERT_EQ(hits.size(), 3u);
  EXPECT_EQ(hits[2].at, 8u);
  EXPECT_EQ(hits[0].excerpt, "000102");
  EXPECT_TRUE(hits[0].encoding.empty());
}

TEST(ContentSearch, HitsOfWhatRepeatsItselfDoNotDependOnThePieces) {
  Needles needles;
  needles.add_bytes(Bytes(60, 0));
  const Bytes where(7000, 0);
  auto places = [&](std::size_t piece) {
    ContentSearch search(needles, 1000);
    for (std::size_t at = 0; at < where.size(); at += piece)
      search.add(ByteView(where).subspan(at, std::min(piece, where.size() - at)));
    search.finish();
    std::vector<std::uint64_t> all;
    for (const ContentHit& hit : search.hits()) all.push_back(hit.at);
    return all;
  };
  EXPECT_EQ(places(where.size()).size(), 116u);
  for (std::size_t piece : {1, 7, 1024, 1500}) EXPECT_EQ(places(piece), places(where.size())) << piece;
}

}  // namespace
}  // namespace operculum::test
