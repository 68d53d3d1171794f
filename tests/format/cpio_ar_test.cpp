#include <fmt/format.h>
#include <gtest/gtest.h>

#include "format/archive/cpio_header.h"
#include "support/new_container.h"
#include "support/open.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

struct CpioItem {
  std::string name, data;
  unsigned mode = 0100644, links = 1, inode = 7;
};

/// One header with its data in a form given by its magic.
void put(ByteWriter& out, const std::string& form, const CpioItem& item) {
  std::size_t name_size = item.name.size() + 1;
  if (form == "070701" || form == "070702") {
    unsigned sum = 0;
    for (char c : item.data) sum += static_cast<unsigned char>(c);
    out.text(form).text(fmt::format("{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}", item.inode, item.mode, 1000,
                                    100, item.links, 1772373908, item.data.size()));
    out.text(fmt::format("{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}", 8, 1, 4, 64, name_size,
                         form == "070702" ? sum : 0));
    out.text(item.name).u8(0).align(4).text(item.data).align(4);
  } else if (form == "070707") {
    out.text(form).text(fmt::format("{:06o}{:06o}{:06o}{:06o}{:06o}{:06o}{:06o}{:011o}{:06o}{:011o}", 1,
                                    item.inode, item.mode, 1000, 100, item.links, 0, 1772373908, name_size,
                                    item.data.size()));
    out.text(item.name).u8(0).text(item.data);
  } else {
    bool big = form == "big";
    auto word = [&](std::uint64_t v) { big ? out.u16be(v & 0xffff) : out.u16(v & 0xffff); };
    for (std::uint64_t v :
         {std::uint64_t{070707}, std::uint64_t{1}, std::uint64_t{item.inode}, std::uint64_t{item.mode},
          std::uint64_t{1000}, std::uint64_t{100}, std::uint64_t{item.links}, std::uint64_t{0},
          std::uint64_t{1772373908} >> 16, std::uint64_t{1772373908}, std::uint64_t{name_size},
          std::uint64_t{item.data.size()} >> 16, std::uint64_t{item.data.size()}}) {
      word(v);
    }
    out.text(item.name).u8(0).align(2).text(item.data).align(2);
  }
}

Bytes cpio(const std::string& form, const std::vector<CpioItem>& items) {
  ByteWriter out;
  for (const CpioItem& item : items) put(out, form, item);
  put(out, form, {"TRAILER!!!", "", 0});
  return out.take();
}

struct Cpio : testing::TestWithParam<const char*> {};

TEST_P(Cpio, ListsAndUnpacks) {
  for (As as : {As::file, As::stream}) {
    Held held = open_bytes(
        cpio(GetParam(), {{"./pool", "", 040755}, {"./pool/crab", "pinch"}, {"./l", "pool/crab", 0120777}}),
        "s", as);
    EXPECT_EQ(held.format(), "cpio");
    EXPECT_EQ(paths_of(*held), "pool pool/crab l");
    EXPECT_EQ(text_at(*held, "pool/crab"), "pinch");
    EXPECT_EQ(entry_at(*held, "pool").kind, EntryKind::folder);
    EXPECT_EQ(entry_at(*held, "l").link_target(), "pool/crab");
    EXPECT_EQ(to_text(entry_at(*held, "pool/crab").modified), "2026-03-01 14:05:08Z");
  }
}

TEST_P(Cpio, SurvivesEveryCut) {
  EXPECT_GT(
      read_every_prefix(cpio(GetParam(), {{"pool", "", 040755}, {"a", "alpha"}, {"b", "beta"}}), "s.cpio"),
      100u);
}

INSTANTIATE_TEST_SUITE_P(Forms, Cpio, testing::Values("070701", "070702", "070707", "little", "big"));

TEST(CpioLinks, KeepTheDataWithTheLastOne) {
  Held held = open_bytes(cpio("070701", {{"a", "", 0100644, 3},
                                         {"b", "", 0100644, 3},
                                         {"c", "pearl", 0100644, 3},
                                         {"d", "other", 0100644, 1, 8}}));
  EXPECT_EQ(paths_of(*held), "c a b d");
  EXPECT_EQ(entry_at(*held, "a").kind, EntryKind::hard_link);
  EXPECT_EQ(entry_at(*held, "a").link_target(), "c");
  EXPECT_EQ(text_at(*held, "c"), "pearl");
  EXPECT_EQ(text_at(*held, "d"), "other");
}

TEST(CpioLinks, WithoutDataAreOneEmptyFile) {
  Held held = open_bytes(cpio("070701", {{"a", "", 0100644, 2}, {"b", "", 0100644, 2}}));
  EXPECT_EQ(entry_at(*held, "a").kind, EntryKind::file);
  EXPECT_EQ(entry_at(*held, "b").link_target(), "a");
}

TEST(CpioCrc, IsCompared) {
  Bytes bytes = cpio("070702", {{"a", "alpha"}});
  bytes[112 + 1] ^= 1;  // in the data: 110 bytes of header, "a" and NUL
  Held held = open_bytes(bytes);
  EXPECT_REFUSAL(text_at(*held, "a"), Malformed,
                 "checksum differs (stored 00000206, computed 00000207); the data is damaged");
}

TEST(CpioSeveral, InARowAreAllListed) {
  Bytes bytes = ByteWriter()
                    .bytes(cpio("070701", {{"early", "1"}}))
                    .align(512)
                    .bytes(cpio("070701", {{"late", "2"}}))
                    .take();
  Held held = open_bytes(bytes);
  EXPECT_EQ(paths_of(*held), "early late");
  EXPECT_TRUE(has_finding(*held, "several cpio archives"));
  EXPECT_EQ(text_at(*held, "late"), "2");
}

TEST(CpioWitness, TheSystemsCpioWritesWhatWeRead) {
  if (!on_path("cpio")) GTEST_SKIP() << "this machine has no cpio program";
  TempFolder temp;
  temp.write("in/pool/crab", "pinch");
  ASSERT_EQ(run("ln", {"in/pool/crab", "in/pool/twin"}, temp.path()).exit_code, 0);
  for (const char* form : {"newc", "crc", "odc", "bin"}) {
    ASSERT_EQ(run("sh", {"-c", std::string("cd in && find pool | cpio --quiet -o -H ") + form + " > ../out"},
                  temp.path())
                  .exit_code,
              0);
    Held held = open_bytes(to_bytes(temp.read("out")));
    bool twin_first = entry_at(*held, "pool/crab").kind == EntryKind::hard_link;
    EXPECT_EQ(text_at(*held, twin_first ? "pool/twin" : "pool/crab"), "pinch") << form;
  }
}

// ---- ar

Bytes ar_member(const std::string& name, const std::string& data) {
  return ByteWriter()
      .text(fmt::format("{:<16}{:<12}{:<6}{:<6}{:<8o}{:<10}`\n", name, 1772373908, 1000, 100, 0100644,
                        data.size()))
      .text(data)
      .align(2)
      .take();
}

TEST(Ar, ReadsCommonGnuAndBsdNames) {
  std::string long_name = "a-rather-long-name-of-a-member.txt", bsd = "another name with blanks";
  Bytes bytes = ByteWriter()
                    .text("!<arch>\n")
                    .bytes(ar_member("/", "symbols!"))
                    .bytes(ar_member("//", long_name + "/\n"))
                    .bytes(ar_member("crab.txt/", "pinch"))
                    .bytes(ar_member("/0", "long"))
                    .bytes(ar_member("#1/24", bsd + "bsd"))
                    .bytes(ar_member("plain", "p"))
                    .take();
  Held held = open_bytes(bytes);
  EXPECT_EQ(held.format(), "ar");
  EXPECT_EQ(paths_of(*held), "symbol-table crab.txt " + long_name + " " + bsd + " plain");
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch");
  EXPECT_EQ(text_at(*held, long_name), "long");
  EXPECT_EQ(text_at(*held, bsd), "bsd");
  EXPECT_EQ(text_at(*held, "plain"), "p");
}

TEST(Ar, TellsOfThinArchivesAndOfDamage) {
  EXPECT_REFUSAL(open_bytes(to_bytes("!<thin>\n")), Unsupported,
                 "Unsupported: a thin ar archive: it holds names only, the data lies in other files");
  Bytes bytes =
      ByteWriter().text("!<arch>\n").bytes(ar_member("a", "alpha")).bytes(ar_member("/99", "x")).take();
  Held held = open_bytes(bytes);
  EXPECT_EQ(paths_of(*held), "a") << "what came before stays";
  EXPECT_TRUE(has_finding(*held, "points outside the name table"));
}

TEST(Ar, SurvivesEveryCut) {
  Bytes bytes = ByteWriter()
                    .text("!<arch>\n")
                    .bytes(ar_member("//", "long-long-long-name.txt/\n"))
                    .bytes(ar_member("/0", "alpha"))
                    .bytes(ar_member("b", "beta"))
                    .take();
  EXPECT_GT(read_every_prefix(bytes, "s.a"), 50u);
}

TEST(Cpio, NumbersThatAFormHasNoRoomForAreRefused) {
  cpio::Header header;
  header.filesize = std::uint64_t{1} << 34;
  const auto& old = cpio::info_of(cpio::Variant::odc);
  EXPECT_REFUSAL(cpio::header_bytes(header, old, false), Unsupported,
                 "the number 17179869184 in this form of cpio, whose fields are smaller");
}

TEST(Ar, NumbersThatAHeaderHasNoRoomForAreRefused) {
  NewEntry entry;
  entry.path = "crab.txt";
  entry.user_id = 10'000'000;
  entry.content = make_content(make_memory_source({}));
  EXPECT_REFUSAL(NewContainer("ar").add(entry).bytes(), Unsupported,
                 "a user's number of more than 6 characters in an ar archive");
}

TEST(Ar, ALongNameWithAZeroIsRefused) {
  EXPECT_REFUSAL(NewContainer("ar").add(std::string("crab\0of the marsh.txt", 21), "x").bytes(), Unsupported,
                 "the name \"crab\\x00of the marsh.txt\" in an ar archive");
}

}  // namespace
}  // namespace operculum
