// What is told at a glance is what libmagic tells.
#include "task/quick_kind.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "container/format.h"
#include "support/byte_writer.h"
#include "task/kinds.h"

namespace operculum::test {
namespace {

std::string_view glance(std::string_view text, bool whole = true) {
  return quick_kind(as_bytes(text), whole).value_or("?");
}

TEST(QuickKind, KnowsPlainWordsAndTheCommonestMarks) {
  EXPECT_EQ(glance("The shore crab walks sideways.\nIt hides: under stones!\n"), "text");
  EXPECT_EQ(glance("time;height\n14:05;4.17\n"), "text");
  EXPECT_EQ(glance("Flut und Ebbe, m\u00fc\u00dfig"), "text");
  EXPECT_EQ(glance("\x89PNG\r\n\x1a\n...."), "image");
  EXPECT_EQ(glance("%PDF-1.7 whatever"), "document");
}

TEST(QuickKind, LeavesToLibmagicWhatItCannotTell) {
  for (const char* text :
       {"import os\nand more of it", "a = {1, 2}", "<svg width=10>", "x\ndef crab(a):\n  pass",
        "#!/bin/sh\necho", "two words\x01and one", "short", "onewordwithoutanyblank", "[section]\nkey=value",
        "a,b\xff\xfe and more", "Text -----BEGIN of it", "package main\n", "P3 2 2 255\n1 2 3 4 5 6"})
    EXPECT_EQ(glance(text), "?") << text;
  std::string cut = "The beach is slippery, m\u00fc";
  cut.pop_back();
  EXPECT_EQ(glance(cut, false), "text");  // the rest of the last letter follows
  EXPECT_EQ(glance(cut, true), "?");
}

/// Over all files of this repository.
TEST(QuickKind, SaysWhatLibmagicSays) {
  OpenContext context;
  KindReader reader(context);
  std::size_t told = 0, files = 0;
  for (const char* folder : {"docs", "src", "tests", "scripts", "layouts", "fuzz/corpus"}) {
    for (const auto& one :
         std::filesystem::recursive_directory_iterator(std::string(OPERCULUM_SOURCE) + "/" + folder)) {
      if (!one.is_regular_file() || ++files > 9'000) continue;
      std::ifstream file(one.path(), std::ios::binary);
      Bytes head(kKindHead);
      file.read(reinterpret_cast<char*>(head.data()), kKindHead);
      head.resize(static_cast<std::size_t>(file.gcount()));
      auto quick = quick_kind(head, head.size() < kKindHead);
      if (!quick) continue;
      ++told;
      Probe by_magic(make_memory_source(head), "sample"), by_glance(make_memory_source(head), "sample");
      EXPECT_EQ(reader.kind(by_glance, "sample"), reader.tell(by_magic, "sample").kind) << one.path();
    }
  }
  EXPECT_GT(told, 20u);
}

}  // namespace
}  // namespace operculum::test
