// Containers that are made of a description alone.
#include "layout/fresh/fresh_container.h"

#include <gtest/gtest.h>

#include "support/new_file.h"
#include "support/open_pack.h"
#include "support/sentence.h"

namespace operculum::test {
namespace {

std::shared_ptr<const layout::Plan> plan_of(const std::string& name) {
  return layout::Library::read(std::string(OPERCULUM_SOURCE) + "/layouts/" + name + ".layout",
                               layout::Trust::own)
      .compiled.plan;
}

using Contents = std::map<std::string, std::string>;

Bytes packed(const std::string& layout, const Contents& contents) {
  std::vector<NewEntry> entries;
  for (const auto& [path, text] : contents) entries.push_back(new_file(path, text));
  OpenContext context;
  Writing writing{{}, context.spool, [](const std::string&, const std::string&) {}};
  SourcePtr made = layout::pack_described(plan_of(layout), entries, writing).source();
  return read_up_to(*made, 0, made->size());
}

Contents read_back(const std::string& layout, const Bytes& bytes, const Contents& wanted) {
  Pack pack;
  pack.layout = layout;
  pack.name = "made." + layout;
  OpenPack open(pack, bytes);
  for (const auto& [path, text] : wanted) open.context->known_names.push_back(path);
  EXPECT_TRUE(open.container->findings().empty()) << layout;
  return open.contents();
}

std::string text_of(std::size_t length) {
  std::string out;
  while (out.size() < length) out += "low water at " + std::to_string(out.size()) + ", ";
  return out.substr(0, length);
}

class FreshPack : public testing::TestWithParam<const char*> {};
// Tables, rows with names of any length, chains, decimal digits, names by their hashes, letters under a
// cipher.
INSTANTIATE_TEST_SUITE_P(Layouts, FreshPack, testing::Values("shoal", "swell", "ledger", "tern", "drift"),
                         [](const auto& info) { return std::string(info.param); });

TEST_P(FreshPack, HoldsWhatWasPutIn) {
  const std::string layout = GetParam();
  Contents wanted = {{"a.txt", text_of(3)}, {"b.txt", text_of(1000)}, {"captions/c.txt", text_of(40)}};
  Bytes made = packed(layout, wanted);
  EXPECT_EQ(read_back(layout, made, wanted), wanted);
  EXPECT_EQ(packed(layout, wanted), made);  // the same each time
}

TEST(FreshContainer, HoldsOneFileWhereNoMoreCanBeAdded) {
  for (const std::string layout : {"reef", "cockle"}) {
    Contents wanted = {{"otter.txt", text_of(700)}};
    EXPECT_EQ(read_back(layout, packed(layout, wanted), wanted), wanted);
    std::string told = sentence([&] { packed(layout, {{"a.txt", "one"}, {"b.txt", "two"}}); });
    EXPECT_TRUE(told.starts_with("Unsupported: ")) << told;
  }
}

TEST(FreshContainer, ASmallestOneHasOneFileInItsPlace) {
  Pack pack;
  pack.layout = "shoal";
  pack.name = "new.shoal";
  Bytes bytes = layout::smallest_container(plan_of("shoal"));
  EXPECT_EQ(OpenPack(pack, bytes).contents(), (Contents{{"new", "Salt water"}}));
  EXPECT_EQ(bytes.size(), 90u);  // header, one row, filling up to a multiple of 16, ten bytes
}

TEST(FreshContainer, SaysWhatStoodInTheWay) {
  std::string told = sentence([] { layout::smallest_container(plan_of("harbour")); });
  EXPECT_TRUE(
      told.starts_with("Unsupported: a new container by the description of Harbour installer alone: no "
                       "bytes were found that it takes for one with an entry (harbour.layout line 31: "))
      << told;
  EXPECT_TRUE(told.ends_with("--like CONTAINER takes the form of one that is there")) << told;
}

}  // namespace
}  // namespace operculum::test
