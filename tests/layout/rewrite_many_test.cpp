// Described packs of which many rows go, all get others, or an empty one is filled.
#include <gtest/gtest.h>

#include "container/rewrite.h"
#include "support/new_file.h"
#include "support/open_pack.h"

namespace operculum::test {
namespace {

using Contents = std::map<std::string, std::string>;

Pack swell_of(const Contents& contents) {
  Pack out = swell_pack();
  std::vector<std::pair<std::string, Bytes>> parts;
  for (const auto& [path, text] : contents) parts.emplace_back(path, to_bytes(text));
  out.bytes = make_swell("2.4", parts);
  return out;
}

Contents rewritten(const Pack& pack, const std::function<void(std::span<const Entry>, Changes&)>& change) {
  OpenPack open(pack, pack.bytes);
  Changes changes;
  change(open.container->entries(), changes);
  Writing writing{{}, open.context->spool, [](const std::string&, const std::string&) {}};
  SourcePtr made = open.container->rewrite(changes, writing).source();
  OpenPack after(pack, read_up_to(*made, 0, made->size()));
  EXPECT_TRUE(after.container->findings().empty());
  return after.contents();
}

TEST(RewriteMany, RowsThatFollowOneAnotherGoAtOnce) {
  Contents contents;
  for (int i = 1000; i < 1400; ++i) contents["part-" + std::to_string(i)] = "tide " + std::to_string(i * i);
  const Contents kept = {{"part-1005", contents["part-1005"]}, {"part-1300", "mended"}};
  Contents after = rewritten(swell_of(contents), [&](std::span<const Entry> entries, Changes& changes) {
    for (std::size_t i = 0; i < entries.size(); ++i)
      if (!kept.contains(entries[i].path)) changes.removed.insert(i);
    changes.replaced.emplace(300, new_file("part-1300", "mended"));
  });
  EXPECT_EQ(after, kept);
}

TEST(RewriteMany, WhereAllGoOneShowsHowTheOthersAre) {
  const Contents wanted = {{"crab.txt", "sideways"}, {"deep/eel.txt", std::string(500, 'e')}, {"gull", ""}};
  for (const Pack& pack : {swell_pack(), shoal_pack(), drift_pack(2), ledger_pack()}) {
    Contents after = rewritten(pack, [&](std::span<const Entry> entries, Changes& changes) {
      for (std::size_t i = 0; i < entries.size(); ++i) changes.removed.insert(i);
      for (const auto& [path, text] : wanted) changes.added.push_back(new_file(path, text));
    });
    EXPECT_EQ(after, wanted) << pack.layout;
  }
}

TEST(RewriteMany, AnEmptyEntryIsFilled) {
  const std::string text = "the gauge was read again\n" + std::string(300, '.');
  struct Case {
    Pack pack;
    std::string path;
  };
  for (const Case& one : {Case{swell_of({{"a", ""}, {"b", "bb"}, {"c", ""}}), "a"},
                          Case{swell_of({{"a", "aa"}, {"b", ""}, {"c", "cc"}}), "b"},
                          Case{swell_of({{"a", "aa"}, {"b", "bb"}, {"c", ""}}), "c"},
                          Case{swell_of({{"a", ""}, {"b", ""}}), "b"}}) {
    Contents wanted = OpenPack(one.pack, one.pack.bytes).contents();
    wanted[one.path] = text;
    Contents after = rewritten(one.pack, [&](std::span<const Entry> entries, Changes& changes) {
      for (std::size_t i = 0; i < entries.size(); ++i)
        if (entries[i].path == one.path) changes.replaced.emplace(i, new_file(one.path, text));
    });
    EXPECT_EQ(after, wanted) << one.path;
  }
}

TEST(RewriteMany, ALongerNamePutsNoFillingWhereNoneWas) {
  const Pack pack = ledger_pack();
  OpenPack open(pack, pack.bytes);
  std::span<const Entry> entries = open.container->entries();
  Changes changes;
  for (std::size_t i = 0; i < entries.size(); ++i)
    if (entries[i].path == "crab.txt") changes.renamed.emplace(i, "crabs.txt");
  ASSERT_EQ(changes.renamed.size(), 1u);
  Writing writing{{}, open.context->spool, [](const std::string&, const std::string&) {}};
  EXPECT_EQ(open.container->rewrite(changes, writing).size(), pack.bytes.size() + 1);
}

}  // namespace
}  // namespace operculum::test
