// Every family of made-up packs: opened with its description, compared, cut, and damaged.
#include <gtest/gtest.h>

#include <algorithm>

#include "base/error.h"
#include "layout/described_container.h"
#include "layout/described_format.h"
#include "layout/library.h"
#include "support/open_pack.h"

namespace operculum {
namespace {

using namespace test;

struct Packs : testing::TestWithParam<std::size_t> {
  Pack pack = pack_number(GetParam());
};

TEST_P(Packs, OpenWithTheirDescription) {
  OpenPack open(pack, pack.bytes);
  EXPECT_EQ(open.contents(), pack.contents);
  EXPECT_TRUE(open.container->findings().empty()) << open.container->findings()[0].text;
}

TEST_P(Packs, AreRecognisedByContentWhateverTheirName) {
  auto compiled = layout::Library::read(std::string(OPERCULUM_SOURCE) + "/layouts/" + pack.layout + ".layout",
                                        layout::Trust::own)
                      .compiled;
  ASSERT_TRUE(compiled.plan);
  Format format = layout::described_format(compiled.plan, layout::Chosen::by_content);
  Probe probe(make_memory_source(pack.bytes), pack.layout == "ledger" ? pack.name : "renamed.bin");
  EXPECT_NE(format.recognise(probe), Match::none);
  Bytes other = pack.bytes;
  other[0] ^= 0x20;
  other[other.size() - 1] ^= 0x20;
  if (pack.layout == "reef") other[512] ^= 0x20;  // its mark stands in the second sector
  Probe probe_other(make_memory_source(other), pack.name);
  EXPECT_EQ(format.recognise(probe_other), Match::none);
}

TEST_P(Packs, SurviveEveryCut) {
  for (std::size_t size = 0; size < pack.bytes.size(); ++size) {
    Bytes cut(pack.bytes.begin(), pack.bytes.begin() + static_cast<std::ptrdiff_t>(size));
    try {
      OpenPack open(pack, cut);
      for (const auto& [path, text] : open.contents()) {
        auto expected = pack.contents.find(path);
        if (expected == pack.contents.end() || !pack.checked) continue;
        EXPECT_EQ(text, expected->second) << path << " cut at " << size;
      }
    } catch (const Error&) {
      continue;  // a clear error is a right answer
    }
  }
}

TEST_P(Packs, SurviveEveryFlippedByteOfTheHeader) {
  std::size_t header = pack.header != 0 ? pack.header : pack.bytes.size();
  std::size_t step = header > 2000 ? 23 : 1;
  for (std::size_t at = 0; at < header; at += step) {
    for (int mask : {0xff, 0x01, 0x80}) {
      Bytes bent = pack.bytes;
      bent[at] = static_cast<Byte>(bent[at] ^ mask);
      try {
        OpenPack open(pack, bent);
        auto contents = open.contents();
        if (!pack.checked) continue;
        for (const auto& [path, text] : contents) {
          auto expected = pack.contents.find(path);
          if (expected == pack.contents.end()) continue;  // its name was bent
          if (open.has_folder(path)) continue;            // bent into a folder; this is something else in it
          EXPECT_EQ(text, expected->second) << path << " with byte " << at << " flipped by " << mask;
        }
      } catch (const Error&) {
        continue;
      }
    }
  }
}

INSTANTIATE_TEST_SUITE_P(All, Packs, testing::Range<std::size_t>(0, kPacks));

TEST(PackParts, AMissingPartIsNamedAndTheRestIsRead) {
  Pack pack = mussel_pack(false);
  ASSERT_GE(pack.beside.size(), 3u);
  pack.beside.erase("survey.000");
  OpenPack open(pack, pack.bytes);
  ASSERT_EQ(open.container->findings().size(), 1u);
  EXPECT_NE(open.container->findings()[0].text.find("\"survey.000\" is wanted beside \"survey.bed\""),
            std::string::npos);
  auto contents = open.contents();
  EXPECT_EQ(contents.count("south/map.txt"), 1u) << "it lies in the other parts";
  EXPECT_LT(contents.size(), pack.contents.size());
}

TEST(PackKeys, AWrongKeyIsToldFromDamage) {
  Pack pack = gauge_pack();
  pack.key = "low water mark!!";
  try {
    OpenPack open(pack, pack.bytes);
    FAIL() << "opened with a wrong key";
  } catch (const NeedsKey& error) {
    EXPECT_NE(std::string(error.what()).find("\"gauge master\" does not fit"), std::string::npos)
        << error.what();
  }
  pack = gauge_pack();
  pack.bytes[300] ^= 1;  // in the first part's data
  OpenPack open(pack, pack.bytes);
  EXPECT_EQ(open.contents().size(), pack.contents.size() - 1);
}

}  // namespace
}  // namespace operculum
