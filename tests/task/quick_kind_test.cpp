// What is told at a glance is what libmagic tells.
#include "task/quick_kind.h"

#include <gtest/gtest.h>
#include <magic.h>

#include <filesystem>
#include <fstream>
#include <memory>

#include "support/byte_writer.h"
#include "task/kinds.h"

namespace operculum::test {
namespace {

std::string_view glance(std::string_view text, bool whole = true) {
  auto told = quick_kind(as_bytes(text), whole);
  return told ? told->kind : "?";
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

TEST(QuickKind, LeavesTypesToLibmagicThatTextHasAForm) {
  auto type = [](std::string_view text) { return quick_kind(as_bytes(text), true)->media_type; };
  EXPECT_EQ(type("The shore crab walks sideways.\nIt hides: under stones!\n"), "text/plain");
  for (const char* text : {"Subject: low tide\n\nNo boats today", "time,height\n14:05,4.17\n"})
    EXPECT_EQ(type(text), "") << text;
  EXPECT_EQ(type("\x89PNG\r\n\x1a\n...."), "image/png");
}

/// Whether a media type that libmagic tells is of that kind.
bool is_of_kind(std::string_view type, std::string_view kind) {
  if (kind == "text") return type.starts_with("text/") && !type.starts_with("text/x-");
  if (kind == "document") return type == "application/pdf";
  return type.starts_with(kind == "sound" ? "audio/" : kind);
}

/// Over all files of this repository.
TEST(QuickKind, SaysWhatLibmagicSays) {
  std::unique_ptr<magic_set, decltype(&magic_close)> magic{
      magic_open(MAGIC_MIME_TYPE | MAGIC_NO_CHECK_COMPRESS | MAGIC_NO_CHECK_TAR), magic_close};
  ASSERT_EQ(magic_load(magic.get(), nullptr), 0);
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
      std::string type = magic_buffer(magic.get(), head.data(), head.size());
      EXPECT_TRUE(is_of_kind(type, quick->kind)) << one.path() << " " << type;
      if (!quick->media_type.empty()) {
        EXPECT_EQ(quick->media_type, type) << one.path();
      }
    }
  }
  EXPECT_GT(told, 20u);
}

}  // namespace
}  // namespace operculum::test
