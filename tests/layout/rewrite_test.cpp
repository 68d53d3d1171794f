// Packs of every family written again with new contents, and read again by their descriptions.
#include "container/rewrite.h"

#include <gtest/gtest.h>

#include "base/text.h"
#include "codec/lzss.h"
#include "codec/run_length.h"
#include "container/trim.h"
#include "layout/run/step_packers.h"
#include "support/new_file.h"
#include "support/open_pack.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

/// The pack with changes to the entry of a path; throws what writing throws.
template <typename Change>
Pack changed(const Pack& pack, const std::string& path, Change change) {
  OpenPack open(pack, pack.bytes);
  std::span<const Entry> entries = open.container->entries();
  Changes changes;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (entries[i].path == path) change(changes, i);
  }
  Writing writing{{}, open.context->spool, [](const std::string&, const std::string&) {}};
  Pack out = pack;
  writing.beside = [&](const FileBeside& file) {
    out.beside[file.name] = read_up_to(*file.bytes, 0, file.bytes->size());
  };
  SourcePtr source = open.container->rewrite(changes, writing).source();
  out.bytes = read_up_to(*source, 0, source->size());
  return out;
}

/// The pack with another content of one entry.
Pack rewritten(const Pack& pack, const std::string& path, const std::string& text) {
  return changed(pack, path, [&](Changes& changes, std::size_t index) {
    changes.replaced[index] = new_file(path, text);
  });
}

/// What of a family's entries can be given another content: of the same length, longer, shorter.
struct Outcome {
  std::size_t same = 0, longer = 0, shorter = 0, entries = 0;
};

Outcome try_all(const Pack& pack) {
  Outcome outcome;
  for (const auto& [path, text] : pack.contents) {
    ++outcome.entries;
    std::string same = text, longer = text + std::string(700, 'x') + "low water",
                shorter = text.substr(0, text.size() / 2);
    std::reverse(same.begin(), same.end());
    struct Try {
      const std::string& text;
      std::size_t& count;
    };
    for (const Try& one :
         {Try{same, outcome.same}, Try{longer, outcome.longer}, Try{shorter, outcome.shorter}}) {
      Pack made;
      try {
        made = rewritten(pack, path, one.text);
      } catch (const Unsupported&) {
        continue;
      }
      auto expected = pack.contents;
      expected[path] = one.text;
      EXPECT_TRUE(OpenPack(made, made.bytes).contents() == expected) << pack.layout << " " << path;
      ++one.count;
    }
  }
  return outcome;
}

/// The pack without filling; empty where there is none that may go.
Bytes trimmed(const Pack& pack, const Bytes& bytes) {
  auto made = OpenPack(pack, bytes).container->trimmed(Look::whole);
  if (!made) return {};
  SourcePtr source = made->result.source();
  return read_up_to(*source, 0, source->size());
}

/// A shorter content leaves filling in its place: it goes, and the numbers that tell of what lies behind
/// follow.
TEST(DescribedTrim, ClosesGapsBetweenEntries) {
  std::map<std::string, std::size_t> closed;
  for (std::size_t i = 0; i < kPacks; ++i) {
    const Pack& pack = pack_number(i);
    for (const auto& [path, text] : pack.contents) {
      try {
        Bytes gapped = rewritten(pack, path, text.substr(0, 1)).bytes;
        auto expected = pack.contents;
        expected[path] = text.substr(0, 1);
        Bytes after = trimmed(pack, gapped);
        if (after.empty()) continue;
        EXPECT_LT(after.size(), gapped.size());
        EXPECT_TRUE(OpenPack(pack, after).contents() == expected) << pack.layout << " " << path;
        EXPECT_TRUE(trimmed(pack, after).empty()) << pack.layout << " " << path;
        ++closed[pack.layout];
      } catch (const Unsupported&) {
        continue;  // says why it cannot
      }
    }
  }
  // Of the others the room of a content is no gap: what lies behind moves up when it becomes shorter.
  EXPECT_EQ(closed, (std::map<std::string, std::size_t>{
                        {"cockle", 4}, {"eel", 2}, {"gauge", 2}, {"shoal", 3}, {"swell", 2}}));
}

TEST(DescribedTrim, TakesFillingAtTheEnd) {
  const Pack& pack = pack_number(0);
  Bytes longer = pack.bytes;
  longer.resize(longer.size() + 100'000);
  Bytes after = trimmed(pack, longer);
  EXPECT_LE(after.size(), pack.bytes.size());
  EXPECT_TRUE(OpenPack(pack, after).contents() == pack.contents);
}

TEST(DescribedRewrite, WithoutChangesIsTheSameBytes) {
  for (std::size_t i = 0; i < kPacks; ++i) {
    const Pack& pack = pack_number(i);
    OpenPack open(pack, pack.bytes);
    Writing writing{{}, open.context->spool, [](const std::string&, const std::string&) {}};
    SourcePtr source = open.container->rewrite({}, writing).source();
    EXPECT_EQ(read_up_to(*source, 0, source->size()), pack.bytes) << pack.layout;
  }
}

/// How many entries of a family can be given another content; what cannot says so.
struct Expected {
  std::string layout;
  std::size_t same, longer, shorter;
};

/// Each of the packs that descriptions read.
struct DescribedPack : testing::TestWithParam<std::size_t> {};
INSTANTIATE_TEST_SUITE_P(Packs, DescribedPack, testing::Range(std::size_t{0}, kPacks));

TEST_P(DescribedPack, GetsNewContentsAndNothingElseIsTouched) {
  // ledger: the key runs on through the file, so
  // what moves is encrypted anew. mussel: there is no room in as many data files as its index says.
  const Expected kExpected[] = {
      {"shoal", 4, 4, 4},  {"kelp", 4, 4, 4},   {"gauge", 3, 3, 3},   {"tern", 3, 3, 3},
      {"reef", 6, 6, 6},   {"eel", 3, 3, 3},    {"cockle", 4, 4, 4},  {"drift", 3, 3, 3},
      {"ledger", 3, 3, 3}, {"mussel", 3, 0, 3}, {"harbour", 3, 3, 3}, {"swell", 2, 2, 2},
  };
  const Pack& pack = pack_number(GetParam());
  auto expected = std::find_if(std::begin(kExpected), std::end(kExpected),
                               [&](const Expected& one) { return one.layout == pack.layout; });
  ASSERT_NE(expected, std::end(kExpected)) << pack.layout;
  Outcome outcome = try_all(pack);
  EXPECT_EQ(outcome.same, expected->same);
  EXPECT_EQ(outcome.longer, expected->longer);
  EXPECT_EQ(outcome.shorter, expected->shorter);
}

/// How many entries of a family can be removed, be renamed to a longer and to a shorter name, and whether one
/// can be added; what cannot says so and writes nothing.
struct Rows {
  std::string layout;
  std::size_t removed = 0, longer = 0, shorter = 0, added = 0;
  bool operator==(const Rows&) const = default;
};
std::ostream& operator<<(std::ostream& out, const Rows& rows) {
  return out << rows.layout << " " << rows.removed << " " << rows.longer << " " << rows.shorter << " "
             << rows.added;
}

/// Counts when the change is made and nothing else is; refused ones do not count.
template <typename Change>
std::size_t works(const Pack& pack, const std::string& path,
                  const std::map<std::string, std::string>& expected, Change change) {
  Pack made;
  try {
    made = changed(pack, path, change);
  } catch (const Unsupported& error) {
    EXPECT_GT(std::string_view(error.what()).size(), 40u);  // it says what, and why not
    return 0;
  }
  OpenPack after(made, made.bytes);
  for (const auto& [name, text] : expected)
    after.context->known_names.push_back(name);  // it may have a hash alone
  EXPECT_TRUE(after.contents() == expected) << pack.layout << " " << path;
  return 1;
}

Rows try_rows(const Pack& pack) {
  Rows rows{std::string(pack.layout)};
  for (const auto& [path, text] : pack.contents) {
    auto without = pack.contents;
    without.erase(path);
    rows.removed += works(pack, path, without,
                          [](Changes& changes, std::size_t index) { changes.removed.insert(index); });
    std::string folder = path.substr(0, path.size() - base_name(path).size());
    for (auto [name, count] : {std::pair{folder + "l0ng" + std::string(base_name(path)), &rows.longer},
                               {folder + "q.txt", &rows.shorter}}) {
      auto renamed = without;
      renamed[name] = text;
      std::string to = name;
      *count += works(pack, path, renamed,
                      [&](Changes& changes, std::size_t index) { changes.renamed[index] = to; });
    }
  }
  const std::string& path = pack.contents.begin()->first;
  std::string folder = path.substr(0, path.size() - base_name(path).size());
  auto more = pack.contents;
  more[folder + "new.txt"] = "a new text of the tide gauge\n";
  rows.added = works(pack, path, more, [&](Changes& changes, std::size_t) {
    changes.added.push_back(new_file(folder + "new.txt", "a new text of the tide gauge\n"));
  });
  return rows;
}

TEST_P(DescribedPack, EntriesComeAndGoAndGetOtherNames) {
  // gauge: a name has no room in its field. tern: names are known by their hashes, one by its hash alone.
  // reef: a node with two children cannot be taken out of its tree, and the nodes have no room for longer
  // names. cockle, reef: where a new entry belongs in chains and trees is not stated; eel: nor where its own
  // data would lie.
  const Rows kExpected[] = {
      {"shoal", 4, 4, 4, 1},  {"kelp", 4, 4, 4, 1},   {"gauge", 3, 2, 3, 1},   {"tern", 3, 2, 2, 1},
      {"reef", 5, 2, 6, 0},   {"eel", 3, 3, 3, 0},    {"cockle", 4, 4, 4, 0},  {"drift", 3, 3, 3, 1},
      {"ledger", 3, 3, 3, 1}, {"mussel", 4, 4, 4, 1}, {"harbour", 3, 3, 3, 1}, {"swell", 2, 2, 2, 1},
  };
  const Pack& pack = pack_number(GetParam());
  auto expected = std::find_if(std::begin(kExpected), std::end(kExpected),
                               [&](const Rows& one) { return one.layout == pack.layout; });
  ASSERT_NE(expected, std::end(kExpected)) << pack.layout;
  EXPECT_EQ(try_rows(pack), *expected);
}

TEST(DescribedRewrite, AFolderGoesWithAllThatIsInIt) {
  const Pack pack = eel_pack(false);
  OpenPack open(pack, pack.bytes);
  std::span<const Entry> entries = open.container->entries();
  Changes changes;
  auto expected = pack.contents;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (entries[i].path != "caves" && !entries[i].path.starts_with("caves/")) continue;
    changes.removed.insert(i);
    expected.erase(entries[i].path);
  }
  ASSERT_EQ(changes.removed.size(), 4u);
  Writing writing{{}, open.context->spool, [](const std::string&, const std::string&) {}};
  SourcePtr made = open.container->rewrite(changes, writing).source();
  OpenPack after(pack, read_up_to(*made, 0, made->size()));
  EXPECT_FALSE(after.has_folder("caves"));
  EXPECT_EQ(after.contents(), expected);
}

TEST(DescribedRewrite, TellsWhereAContainerHasOnlyTheHashOfAName) {
  const Pack pack = tern_pack();
  OpenPack open(pack, pack.bytes);
  std::span<const Entry> entries = open.container->entries();
  Changes changes;
  for (std::size_t i = 0; i < entries.size(); ++i)
    if (entries[i].path == "notes.txt") changes.renamed.emplace(i, "captions.txt");
  std::string told;
  Writing writing{{}, open.context->spool, [&](const std::string& path, const std::string& text) {
                    told += path + ": " + text;
                  }};
  SourcePtr made = open.container->rewrite(changes, writing).source();
  EXPECT_TRUE(told.starts_with("notes.txt: the container has only a hash of its name")) << told;
  EXPECT_FALSE(OpenPack(pack, read_up_to(*made, 0, made->size())).contents().contains("captions.txt"));
}

TEST(StepPackers, UndoWhatStepsDo) {
  for (std::string_view name : layout::packable_steps()) EXPECT_NE(layout::find_step(name), nullptr) << name;
}

TEST(PackLzss, IsReadInEveryDialect) {
  std::vector<LzssDialect> dialects(9);
  dialects[1].ring = false;
  dialects[2].flags_from_low = false;
  dialects[2].flag_bytes = 2;
  dialects[3].literal_flag = false;
  dialects[4].token = "llllllPP pppppppp";
  dialects[4].ring = false;
  dialects[4].window = 1024;
  dialects[4].start = 0;
  dialects[5].longer = 1;
  dialects[5].ring = false;
  dialects[6].longer = 2;
  dialects[6].ring = false;
  dialects[7].stops = true;
  dialects[7].ring = false;
  dialects[8].least = 2;
  dialects[8].start = 0;
  std::string text;
  for (int i = 0; i < 900; ++i)
    text += "tide " + std::to_string(i % 37) + (i % 5 == 0 ? std::string(40, '-') : " ");
  for (std::size_t i = 0; i < dialects.size(); ++i) {
    for (const Bytes& plain : {to_bytes(text), Bytes(3000, 'z'), noise(2000), Bytes{}, to_bytes("ab")}) {
      Bytes packed = pack_lzss(plain, dialects[i]);
      StreamPtr stream = open_lzss(make_source_stream(make_memory_source(packed)), dialects[i], plain.size());
      EXPECT_EQ(read_all(*stream, 1 << 20), plain) << i;
      EXPECT_LT(packed.size(), plain.size() * 9 / 8 + 16) << i;
    }
    EXPECT_LT(pack_lzss(Bytes(3000, 'z'), dialects[i]).size(), 700u) << i;
  }
}

TEST(PackRunLength, IsReadInEveryForm) {
  std::string text =
      "aaaaabcddeeeeeeee" + std::string(400, 'q') + std::string("\xc1\xc1\xff\x00\x01", 5) + "zz";
  for (RunLength form :
       {RunLength::packbits, RunLength::pairs, RunLength::marked, RunLength::high_bit, RunLength::top_bits}) {
    for (const Bytes& plain : {to_bytes(text), noise(1500), Bytes(1000, 0xfe), Bytes{}, to_bytes("a")}) {
      Bytes packed = pack_run_length(plain, form, 0xfe);
      StreamPtr stream = open_run_length(make_source_stream(make_memory_source(packed)), form, 0xfe);
      EXPECT_EQ(read_all(*stream, 1 << 20), plain) << static_cast<int>(form);
    }
  }
}

}  // namespace
}  // namespace operculum
