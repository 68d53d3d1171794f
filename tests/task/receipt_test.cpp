#include "task/receipt.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/json.h"
#include "support/refusal.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::string_view kOfNothing = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

UnpackEvent event_of(const std::string& path, UnpackEvent::Kind kind = UnpackEvent::Kind::file) {
  UnpackEvent event{.kind = kind, .path = path, .output = path};
  if (kind == UnpackEvent::Kind::file) event.sha256 = kOfNothing;
  return event;
}

TEST(Receipt, SaysTheSameWhenItIsReadAgain) {
  TempFolder temp;
  Receipt receipt;
  receipt.source = "pool \xff.zip";
  receipt.folder = temp.path();
  receipt.complete = false;
  receipt.add(event_of("pool", UnpackEvent::Kind::folder));
  UnpackEvent file = event_of("pool/odd \"name\"\n\xff");
  file.size = 7;
  file.replaced = "pool/before";
  receipt.add(file);
  UnpackEvent link = event_of("pool/latest", UnpackEvent::Kind::link);
  link.link_target = "crab.txt";
  receipt.add(link);
  receipt.add(event_of("left", UnpackEvent::Kind::left_out));
  receipt.write(temp.path("r.json"));
  Receipt again = Receipt::read(temp.path("r.json"));
  EXPECT_EQ(again.source, receipt.source);
  EXPECT_EQ(again.folder, receipt.folder);
  EXPECT_FALSE(again.complete);
  EXPECT_EQ(again.seal(), receipt.seal());
  ASSERT_EQ(again.items.size(), 3u);
  EXPECT_EQ(again.items[0].kind, Receipt::Kind::folder);
  EXPECT_FALSE(again.items[0].sha256);
  EXPECT_EQ(again.items[1].path, file.output);
  EXPECT_EQ(again.items[1].size, 7u);
  EXPECT_EQ(again.items[1].sha256, sha256_from(kOfNothing));
  EXPECT_EQ(again.items[1].replaced(), "pool/before");
  EXPECT_EQ(again.items[2].kind, Receipt::Kind::link);
  EXPECT_EQ(again.items[2].link_target(), "crab.txt");
  nlohmann::json json = parse_json(temp.read("r.json"));
  EXPECT_EQ(json["written"].size(), 3u);
  EXPECT_EQ(json["written"][1]["sha256"], kOfNothing);
  EXPECT_TRUE(temp.has(Receipt::seal_path(receipt.seal())));
}

TEST(Receipt, HardLinksHaveTheDigestOfTheFileThatTheyShare) {
  Receipt receipt;
  UnpackEvent file = event_of("a");
  file.size = 5;
  receipt.add(file);
  auto link = [&](const std::string& path, const std::string& to) {
    UnpackEvent event = event_of(path, UnpackEvent::Kind::link);
    event.hard_link = true;
    event.link_target = to;
    receipt.add(event);
  };
  link("b", "a");
  link("c", "b");
  link("d", "of another receipt");
  ASSERT_EQ(receipt.items.size(), 3u);
  EXPECT_EQ(receipt.items[2].kind, Receipt::Kind::hard_link);
  EXPECT_EQ(receipt.items[2].size, 5u);
  EXPECT_EQ(receipt.items[2].sha256, sha256_from(kOfNothing));
  EXPECT_EQ(receipt.items[2].link_target(), "");
}

TEST(Receipt, OfNothingHasNoSeal) {
  TempFolder temp;
  Receipt receipt;
  receipt.folder = temp.path();
  receipt.write(temp.path("r.json"));
  EXPECT_EQ(temp.listing(), "r.json");
  EXPECT_TRUE(Receipt::read(temp.path("r.json")).items.empty());
}

struct NoReceipt {
  std::string_view text, sentence;
};

struct ReceiptRefuses : testing::TestWithParam<NoReceipt> {};

TEST_P(ReceiptRefuses, WhatIsNone) {
  TempFolder temp;
  temp.write("r.json", GetParam().text);
  EXPECT_REFUSAL(Receipt::read(temp.path("r.json")), Malformed, std::string(GetParam().sentence));
}

constexpr std::string_view kOtherJson =
    "the file is no receipt: expected the JSON that unpack --receipt writes";

INSTANTIATE_TEST_SUITE_P(
    Texts, ReceiptRefuses,
    testing::Values(
        NoReceipt{"", kOtherJson}, NoReceipt{"tide", kOtherJson}, NoReceipt{"[1, -2]", kOtherJson},
        NoReceipt{"[3.5]", kOtherJson}, NoReceipt{"[null]", kOtherJson},
        NoReceipt{
            R"({"kind": "operculum receipt", "version": 2, "folder": "/x", "complete": true, "written": []})",
            kOtherJson},
        NoReceipt{R"({"kind": "operculum receipt", "version": 3})",
                  "the file is no receipt of this program's version"},
        NoReceipt{R"({"kind": "shopping list"})", "the file is no receipt of this program's version"},
        NoReceipt{R"({"kind": "operculum receipt", "version": 2, "source": "a\\q"})",
                  "the receipt has a path that is not written as this program writes it"},
        NoReceipt{R"({"written": [{"kind": "file"}]})", kOtherJson},
        NoReceipt{R"({"written": [{"path": "a", "kind": "fjord"}]})", kOtherJson},
        NoReceipt{R"({"written": [{"path": "a", "kind": "file", "sha256": "12"}]})", kOtherJson}));

}  // namespace
}  // namespace operculum
