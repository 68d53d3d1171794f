// Cabinets and compound files written again: what is to change does, everything else lies there as it lay.
#include <gtest/gtest.h>

#include <algorithm>
#include <random>

#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "support/cab_writer.h"
#include "support/cfb_writer.h"
#include "support/new_container.h"
#include "support/refusal.h"
#include "support/rewritten.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

Bytes lines(std::size_t count, const std::string& word) {
  std::string text;
  for (std::size_t i = 0; i < count; ++i) text += word + " " + std::to_string(i * i % 9973) + "\n";
  return to_bytes(text);
}

std::string text_of(const Bytes& bytes) {
  return std::string(as_text(bytes));
}

std::vector<CabFolder> two_folders(CabMethod method) {
  return {{{{"labels\\crab.txt", lines(9'000, "crab"), 0x21}, {"labels\\kelp.txt", lines(9'000, "kelp")}},
           method},
          {{{"surf.raw", noise(70'000)}, {"tide.txt", to_bytes("high")}}, method}};
}

class CabRewrite : public ::testing::TestWithParam<CabMethod> {};

TEST_P(CabRewrite, WithoutChangesIsTheSameBytes) {
  Bytes before = make_cab(two_folders(GetParam()));
  EXPECT_EQ(Rewritten(before).bytes(), before);
}

TEST_P(CabRewrite, ChangesWhatIsNamedAndNothingElse) {
  Bytes before =
      make_cab(two_folders(GetParam()), {.header_reserve = 7, .folder_reserve = 3, .data_reserve = 5});
  Rewritten made(before);
  made.set("labels/kelp.txt", "short now").rename("labels/crab.txt", "labels/hermit.txt");
  made.remove("tide.txt").add("more/new.txt", text_of(lines(20'000, "new")));
  Held after = made.open();
  EXPECT_EQ(paths_of(*after), "labels/hermit.txt labels/kelp.txt surf.raw more/new.txt");
  EXPECT_EQ(text_at(*after, "labels/hermit.txt"), text_of(lines(9'000, "crab")));
  EXPECT_EQ(text_at(*after, "labels/kelp.txt"), "short now");
  EXPECT_EQ(text_at(*after, "surf.raw"), text_of(noise(70'000)));
  EXPECT_EQ(text_at(*after, "more/new.txt"), text_of(lines(20'000, "new")));
  Held old = open_bytes(before);
  EXPECT_EQ(entry_at(*after, "labels/hermit.txt").mode, entry_at(*old, "labels/crab.txt").mode);
  EXPECT_EQ(entry_at(*after, "surf.raw").modified, entry_at(*old, "surf.raw").modified);
  EXPECT_EQ(entry_at(*after, "more/new.txt").method, entry_at(*old, "surf.raw").method);
  EXPECT_TRUE(after->findings().empty()) << after->findings()[0].text;
}

TEST_P(CabRewrite, FoldersInWhichNothingChangesStayAsTheyLie) {
  std::vector<CabFolder> folders = two_folders(GetParam());
  Bytes before = make_cab(folders);
  Bytes after = Rewritten(before).set("labels/crab.txt", "x").bytes();
  ByteView tail = ByteView(before).last(50'000);  // of the second folder
  EXPECT_EQ(as_text(ByteView(after).last(50'000)), as_text(tail));
}

TEST_P(CabRewrite, RemovesAWholeFolderAndWhatIsLeftIsFound) {
  Held after =
      Rewritten(make_cab(two_folders(GetParam()))).remove("labels/crab.txt").remove("labels/kelp.txt").open();
  EXPECT_EQ(paths_of(*after), "surf.raw tide.txt");
  EXPECT_EQ(text_at(*after, "tide.txt"), "high");
}

TEST_P(CabRewrite, ByChance) {
  std::mt19937 random(5);
  for (int round = 0; round < 7; ++round) {
    std::map<std::string, Bytes> files;
    std::vector<CabFolder> folders(1 + random() % 3);
    for (std::size_t i = 0; i < 9; ++i) {
      std::string name = "f" + std::to_string(i);
      Bytes data = random() % 2 == 0 ? noise(random() % 40'000, static_cast<std::uint32_t>(random()))
                                     : lines(random() % 9'000, name);
      files[name] = data;
      CabFolder& folder = folders[random() % folders.size()];
      folder.method = GetParam();
      folder.files.push_back({name, data});
    }
    std::erase_if(folders, [](const CabFolder& one) { return one.files.empty(); });
    Bytes before = make_cab(folders);
    Rewritten made(before);
    for (auto at = files.begin(); at != files.end();) {
      switch (random() % 4) {
        case 0:
          at->second = lines(random() % 4'000, "changed");
          made.set(at->first, as_text(at->second));
          break;
        case 1:
          made.remove(at->first);
          at = files.erase(at);
          continue;
        default:
          break;
      }
      ++at;
    }
    Held after = made.open();
    EXPECT_EQ(after->entries().size(), files.size());
    for (const auto& [name, data] : files)
      EXPECT_EQ(text_at(*after, name), text_of(data)) << round << " " << name;
  }
}

std::string name_of_method(const ::testing::TestParamInfo<CabMethod>& tested) {
  constexpr const char* kNames[] = {"stored", "mszip", "quantum", "lzx"};
  return kNames[static_cast<std::size_t>(tested.param)];
}
INSTANTIATE_TEST_SUITE_P(Methods, CabRewrite,
                         ::testing::Values(CabMethod::stored, CabMethod::mszip, CabMethod::lzx),
                         name_of_method);

/// Blocks in front of a change, and behind one of the same length, are taken over as they lie.
TEST(CabRewrite, BlocksOfAChangedFolderStayWhereTheyCan) {
  CabFolder folder{{{"a.txt", lines(30'000, "alpha")}, {"b.txt", lines(30'000, "beta")}}, CabMethod::mszip};
  Bytes before = make_cab({folder});
  Bytes changed = lines(30'000, "beta");
  changed[5] = 'Z';
  Rewritten made(before);
  Bytes after = made.set("b.txt", as_text(changed)).bytes();
  std::size_t front = 0, back = 0;
  while (front < std::min(before.size(), after.size()) && (before[front] == after[front] || front < 64))
    ++front;
  while (back < std::min(before.size(), after.size()) &&
         before[before.size() - 1 - back] == after[after.size() - 1 - back])
    ++back;
  EXPECT_GT(front, before.size() * 2 / 5);
  EXPECT_GT(back, before.size() * 2 / 5);
}

TEST(CabRewrite, AnotherMethodWhenAsked) {
  Bytes before = make_cab(two_folders(CabMethod::mszip));
  Held after = Rewritten(before).set("tide.txt", "low").method("lzx").open();
  EXPECT_EQ(entry_at(*after, "tide.txt").method, "lzx");
  EXPECT_EQ(entry_at(*after, "labels/crab.txt").method, "mszip");
  EXPECT_EQ(text_at(*after, "surf.raw"), text_of(noise(70'000)));
  EXPECT_REFUSAL(Rewritten(before).set("tide.txt", "low").method("bzip2").bytes(), Unsupported,
                 "Unsupported: the method \"bzip2\" in a cabinet; there are stored, mszip and lzx");
}

TEST(CabRewrite, WhatItCannotIsSaid) {
  Bytes quantum = make_cab(two_folders(CabMethod::quantum));
  EXPECT_REFUSAL(Rewritten(quantum).set("tide.txt", "low").bytes(), Unsupported,
                 "Unsupported: packing a cabinet's folder with quantum");
  EXPECT_EQ(text_at(*Rewritten(quantum).set("tide.txt", "low").method("mszip").open(), "tide.txt"), "low");
  Bytes one_of_set = make_cab_set(two_folders(CabMethod::mszip), 40'000)[0];
  EXPECT_REFUSAL(Rewritten(one_of_set).add("x", "y").bytes(), Unsupported,
                 "Unsupported: writing a cabinet of a set of several; unpack the set and pack it as one");
}

/// A file whose folder is none of the cabinet's.
TEST(CabRewrite, AFileWithoutAFolderIsNotWritten) {
  Bytes before = make_cab({{{{"a.txt", lines(50, "a")}, {"b.txt", lines(50, "b")}}, CabMethod::stored}});
  std::size_t files = load_little<std::uint32_t>(&before[16]);
  store_number(&before[files + 8], 2, 7);
  EXPECT_REFUSAL(Rewritten(before).set("b.txt", "x").bytes(), Unsupported,
                 "Unsupported: writing a cabinet that is damaged");
}

TEST(CabPack, MakesCabinetsFromScratch) {
  for (const char* method : {"", "stored", "mszip", "lzx"}) {
    NewContainer made("cab", method);
    made.add("labels/crab.txt", text_of(lines(9'000, "crab")))
        .add("leer/müll.txt", "umlaut")
        .add("empty", "");
    Held after = made.open();
    EXPECT_EQ(paths_of(*after), "labels/crab.txt leer/müll.txt empty");
    EXPECT_EQ(text_at(*after, "labels/crab.txt"), text_of(lines(9'000, "crab"))) << method;
    EXPECT_EQ(text_at(*after, "leer/müll.txt"), "umlaut");
    EXPECT_TRUE(after->findings().empty()) << after->findings()[0].text;
  }
}

// ---- compound files

std::vector<CfbNode> exhibit() {
  std::vector<CfbNode> nodes = {{u"Exhibit", SIZE_MAX, true},
                                {u"\5Summary", SIZE_MAX, false, to_bytes("about")},
                                {u"Label", 0, false, lines(900, "label")},
                                {u"short", 0, false, to_bytes("a few bytes")},
                                {u"Surf", SIZE_MAX, false, noise(90'000)}};
  for (int i = 0; i < 40; ++i) {
    std::string number = std::to_string(i * 7);
    nodes.push_back({u"r" + std::u16string(number.begin(), number.end()), 0, false, lines(i * 9, "row")});
  }
  return nodes;
}

class CfbRewrite : public ::testing::TestWithParam<unsigned> {};

TEST_P(CfbRewrite, ChangesWhatIsNamedAndNothingElse) {
  Bytes before = make_cfb(exhibit(), GetParam(), noise(16));
  Held old = open_bytes(before);
  Rewritten made(before);
  made.set("Exhibit/Label", "now a short one").set("Exhibit/short", text_of(lines(3'000, "long")));
  made.remove("Exhibit/r7")
      .rename("Surf", "Waves")
      .add("Exhibit/new", "n")
      .add_folder("More")
      .add("More/in", "side");
  Held after = made.open();
  EXPECT_EQ(after->findings().size(), 0u);
  EXPECT_EQ(after->facts(), old->facts());
  EXPECT_EQ(after->entries().size(), old->entries().size() - 1 + 3);
  EXPECT_EQ(text_at(*after, "Exhibit/Label"), "now a short one");
  EXPECT_EQ(text_at(*after, "Exhibit/short"), text_of(lines(3'000, "long")));
  EXPECT_EQ(text_at(*after, "Waves"), text_of(noise(90'000)));
  EXPECT_EQ(text_at(*after, "\5Summary"), "about");
  EXPECT_EQ(text_at(*after, "Exhibit/new"), "n");
  EXPECT_EQ(text_at(*after, "More/in"), "side");
  for (int i = 0; i < 40; ++i) {
    if (i == 1) continue;
    EXPECT_EQ(text_at(*after, "Exhibit/r" + std::to_string(i * 7)), text_of(lines(i * 9, "row")));
  }
}

TEST_P(CfbRewrite, ContentsOfTheSameSizeArePutInTheirPlace) {
  Bytes before = make_cfb(exhibit(), GetParam());
  Bytes after =
      Rewritten(before).set("Exhibit/short", "A FEW BYTES").set("Surf", as_text(noise(90'000, 5))).bytes();
  EXPECT_EQ(after.size(), before.size());
  Held open = open_bytes(after);
  EXPECT_EQ(text_at(*open, "Exhibit/short"), "A FEW BYTES");
  EXPECT_EQ(text_at(*open, "Surf"), text_of(noise(90'000, 5)));
  std::size_t differing = 0;
  for (std::size_t i = 0; i < before.size(); ++i) differing += before[i] != after[i] ? 1 : 0;
  EXPECT_LE(differing, 90'000u + 11);
}

/// Names of a storage are a search tree: each is found by halving, and no way down is much longer than
/// another.
TEST_P(CfbRewrite, NamesAreASearchTree) {
  Bytes after = Rewritten(make_cfb(exhibit(), GetParam())).add("Exhibit/another one", "x").bytes();
  EXPECT_EQ(check_search_trees(after), "");
}

TEST_P(CfbRewrite, WithoutChangesIsTheSameBytes) {
  Bytes before = make_cfb(exhibit(), GetParam());
  EXPECT_EQ(Rewritten(before).bytes(), before);
}

/// A name that states more bytes than it has room for.
TEST_P(CfbRewrite, AnImpossibleNameIsNotWritten) {
  Bytes before = make_cfb(exhibit(), GetParam());
  const Byte wanted[] = {'S', 0, 'u', 0, 'r', 0, 'f', 0};
  auto name = std::search(before.begin(), before.end(), std::begin(wanted), std::end(wanted));
  ASSERT_NE(name, before.end());
  store_number(&*name + 64, 2, 50'000);
  EXPECT_REFUSAL(Rewritten(before).add("x", "y").bytes(), Unsupported,
                 "Unsupported: writing a compound file that is damaged");
}

/// A short stream whose chain leads behind all short sectors: what stays must be whole.
TEST_P(CfbRewrite, AStreamThatIsNotAllThereIsNotWritten) {
  Bytes before = make_cfb(exhibit(), GetParam());
  auto entry_of = [&](std::string_view name) {
    Bytes wide;
    for (char c : name) wide.insert(wide.end(), {static_cast<Byte>(c), Byte{0}});
    return &*std::search(before.begin(), before.end(), wide.begin(), wide.end());
  };
  std::size_t short_sectors = load_little<std::uint32_t>(entry_of("Root Entry") + 120) / 64;
  store_number(entry_of("short") + 116, 4, short_sectors);  // a row of the table is there, no sector
  EXPECT_REFUSAL(Rewritten(before).add("x", "y").bytes(), Malformed, "\"Exhibit/short\" is not all there");
}

TEST_P(CfbRewrite, WhatItCannotIsSaid) {
  Bytes before = make_cfb(exhibit(), GetParam());
  EXPECT_REFUSAL(Rewritten(before).add("a name of more than thirty-one letters", "x").bytes(), Unsupported,
                 "Unsupported: the name \"a name of more than thirty-one letters\" in a compound file, where "
                 "names have up to 31 characters, none of them / \\ : !");
  EXPECT_REFUSAL(Rewritten(before).add("SURF", "x").bytes(), Unsupported,
                 "Unsupported: two names in a storage of a compound file that differ in case alone");
  EXPECT_REFUSAL(Rewritten(before).rename("Surf", "a:b").bytes(), Unsupported,
                 "Unsupported: the name \"a:b\" in a compound file, where names have up to 31 characters, "
                 "none of them / \\ : !");
}

INSTANTIATE_TEST_SUITE_P(Versions, CfbRewrite, ::testing::Values(3u, 4u));

TEST(CfbPack, MakesCompoundFilesOfAnySize) {
  NewContainer made("cfb");
  std::map<std::string, std::string> files;
  for (int i = 0; i < 700; ++i) {
    std::string path = "s" + std::to_string(i % 9) + "/stream " + std::to_string(i);
    std::size_t size = static_cast<std::size_t>(i) * static_cast<std::size_t>(i) / 3;
    files[path] = text_of(noise(size, static_cast<std::uint32_t>(i) + 1));
    made.add(path, files[path]);
  }
  files["large"] = text_of(noise(9'000'000));  // so that the table's sectors need a list of their own
  made.add("large", files["large"]);
  Bytes bytes = made.bytes();
  EXPECT_EQ(check_search_trees(bytes), "");
  Held after = open_bytes(bytes);
  EXPECT_TRUE(after->findings().empty()) << after->findings()[0].text;
  for (const auto& [path, text] : files) EXPECT_TRUE(text_at(*after, path) == text) << path;
}

TEST(Rewrite, OfDamagedCabinetsAndCompoundFilesEndsInAnErrorOrAFile) {
  std::mt19937 random(3);
  for (const Bytes& whole :
       {make_cab(two_folders(CabMethod::mszip)), make_cab(two_folders(CabMethod::stored)),
        make_cfb(exhibit(), 3), make_cfb(exhibit(), 4)}) {
    std::size_t written = 0;
    for (int round = 0; round < 30; ++round) {
      Bytes damaged = whole;
      for (std::size_t i = 0; i <= random() % 4; ++i)
        damaged[random() % (i % 2 == 0 ? 600 : whole.size())] ^= 0x41;
      try {
        Held open = open_bytes(damaged);
        if (open->entries().empty()) continue;
        std::string path(open->entries()[open->entries().size() / 2].path);
        written += Rewritten(damaged).set(path, "another content of it").bytes().size() > 0 ? 1 : 0;
      } catch (const Error& error) {
        EXPECT_NE(std::string(error.what()), "");
      }
    }
    EXPECT_GT(written, 0u);
  }
}

}  // namespace
}  // namespace operculum::test
