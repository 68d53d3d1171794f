// Which pack provides each path, without the program around it.
#include "collection/loading_order.h"

#include <gtest/gtest.h>

#include "support/temp_folder.h"
#include "support/zip_builder.h"
#include "task/progress.h"

namespace operculum {
namespace {

using namespace test;

using Names = std::vector<std::string>;

TEST(LoadingRules, SortAsTheyAreNamed) {
  Names packs = {"b/pack10.zip", "a/Pack2.zip", "c/pack1.zip", "z/extra.zip"};
  EXPECT_EQ(in_loading_order(packs, LoadingRule::given), packs);
  EXPECT_EQ(in_loading_order(packs, LoadingRule::name),
            (Names{"z/extra.zip", "c/pack1.zip", "b/pack10.zip", "a/Pack2.zip"}));
  Names by_number = in_loading_order(packs, LoadingRule::number);
  auto place = [&](const std::string& name) {
    return std::find(by_number.begin(), by_number.end(), name) - by_number.begin();
  };
  EXPECT_LT(place("c/pack1.zip"), place("a/Pack2.zip"));
  EXPECT_LT(place("a/Pack2.zip"), place("b/pack10.zip"));
}

struct LoadingOrders : testing::Test {
  TempFolder folder;
  OpenContext context;
  Progress progress;

  void SetUp() override {
    folder.write("one.zip", ZipBuilder()
                                .add("textures/crab.ppm", "red")
                                .add("textures/tern.ppm", "white")
                                .add("notes.txt", "1")
                                .build());
    folder.write("two.zip",
                 ZipBuilder().add("textures/crab.ppm", "blue").add("Textures/Tern.ppm", "white").build());
    folder.write("three.zip", ZipBuilder().add("textures/crab.ppm", "red").build());
  }
  LoadingOrder order(const Names& names, const LoadingRequest& request = {}) {
    Names paths;
    for (const std::string& name : names) paths.push_back(folder.path(name));
    return {paths, request, context, progress};
  }
};

TEST_F(LoadingOrders, TheLastPackWins) {
  LoadingOrder made = order({"one.zip", "two.zip", "three.zip"});
  const ProvidedPath* crab = made.find("textures/crab.ppm");
  ASSERT_NE(crab, nullptr);
  EXPECT_EQ(crab->providers.size(), 3u);
  EXPECT_EQ(crab->winner().pack, 2u);
  EXPECT_TRUE(crab->contested());
  EXPECT_TRUE(crab->differs()) << "that of two.zip is blue";
  EXPECT_EQ(made.packs()[0].wins, 2u);
  EXPECT_EQ(made.packs()[0].hidden_same, 1u) << "red as well";
  EXPECT_EQ(made.packs()[1].hidden, 1u);
  EXPECT_EQ(made.packs()[2].wins, 1u);
  EXPECT_EQ(made.wins_over(2, 1), 1u);
  EXPECT_EQ(made.wins_over(2, 0), 0u) << "the same bytes are no conflict";
  EXPECT_EQ(made.find("textures/none.ppm"), nullptr);
}

TEST_F(LoadingOrders, OrTheFirstOne) {
  LoadingRequest request;
  request.first_wins = true;
  LoadingOrder made = order({"one.zip", "two.zip"}, request);
  EXPECT_EQ(made.find("textures/crab.ppm")->winner().pack, 0u);
}

TEST_F(LoadingOrders, CaseCountsUnlessTheGameIgnoresIt) {
  EXPECT_FALSE(order({"one.zip", "two.zip"}).find("textures/tern.ppm")->contested());
  LoadingRequest request;
  request.letters = Glob::Case::ignored;
  LoadingOrder made = order({"one.zip", "two.zip"}, request);
  const ProvidedPath* tern = made.find("TEXTURES/TERN.PPM");
  ASSERT_NE(tern, nullptr);
  EXPECT_TRUE(tern->contested());
  EXPECT_FALSE(tern->differs());
  EXPECT_EQ(tern->path, "Textures/Tern.ppm") << "as the winner writes it";
}

TEST_F(LoadingOrders, OnlyWhatLiesBeneathTheRootsCounts) {
  LoadingRequest request;
  request.roots = {"textures"};
  LoadingOrder made = order({"one.zip"}, request);
  EXPECT_EQ(made.paths().size(), 2u);
  EXPECT_EQ(made.packs()[0].outside, 1u) << "notes.txt";
  EXPECT_NE(made.find("crab.ppm"), nullptr);
}

TEST_F(LoadingOrders, APackThatCannotBeOpenedCostsOnlyItself) {
  folder.write("broken.zip", "no archive at all");
  LoadingOrder made = order({"one.zip", "broken.zip", "three.zip"});
  ASSERT_EQ(made.packs().size(), 3u);
  EXPECT_EQ(made.packs()[1].format, nullptr);
  EXPECT_NE(made.packs()[1].error, "");
  EXPECT_EQ(made.find("textures/crab.ppm")->winner().pack, 2u);
}

}  // namespace
}  // namespace operculum
