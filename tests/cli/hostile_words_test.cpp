// Words from strangers, in every place where a format keeps some, through every command: nothing of them may
// reach a terminal as anything but letters, and none may begin a line of its own.
#include <gtest/gtest.h>

#include <functional>

#include "codec/codec.h"
#include "support/cab_writer.h"
#include "support/cfb_writer.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/msi_writer.h"
#include "support/package_writer.h"
#include "support/pe_writer.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/squashfs_writer.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/udf_writer.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

// An escape sequence, a bell, a line of its own, a control of the second set, a direction, nothing to see.
const std::string kWord =
    "w\x1b]0;t\x07\nFORGED\r\xc2\x9b"
    "31m\xe2\x80\xae\xe2\x80\x8b\xc2\xad\x7f";
const std::string kNoText = "w\x9b\xff\x1b[31m";  // no UTF-8

struct Span {
  char32_t first, last;
};
constexpr Span kUnseen[] = {{0x7f, 0x9f},     {0xad, 0xad},     {0x200b, 0x200f},  {0x2028, 0x202e},
                            {0x2060, 0x206f}, {0xfeff, 0xfeff}, {0xe0000, 0xe007f}};

/// The first thing in an output that no terminal should get; empty when there is none.
std::string unsafe(const std::string& text) {
  if (text.find("\nFORGED") != std::string::npos) return "a line that the container wrote";
  for (std::size_t at = 0; at < text.size();) {
    auto lead = static_cast<unsigned char>(text[at]);
    std::size_t length = lead < 0x80 ? 1 : lead >= 0xf0 ? 4 : lead >= 0xe0 ? 3 : lead >= 0xc2 ? 2 : 0;
    if (length == 0 || at + length > text.size()) return "a byte that is no UTF-8";
    char32_t point = length == 1 ? lead : lead & (0x7fu >> length);
    for (std::size_t i = 1; i < length; ++i) {
      auto next = static_cast<unsigned char>(text[at + i]);
      if ((next & 0xc0) != 0x80) return "a byte that is no UTF-8";
      point = (point << 6) | (next & 0x3fu);
    }
    if (point < 0x20 && point != '\n' && text.compare(at, 2, "\r\n") != 0)
      return "a control character before: " + text.substr(at + 1, 40);
    for (const Span& span : kUnseen)
      if (point >= span.first && point <= span.last) return "what cannot be seen at " + std::to_string(at);
    at += length;
  }
  return "";
}

struct Sample {
  const char* name;
  std::function<Bytes()> make;
};
SampleTree tree() {
  return {{.path = kWord, .kind = EntryKind::folder},
          {.path = kWord + "/" + kWord + ".txt", .data = to_bytes("tide\n")},
          {.path = kWord + ".zip", .data = ZipBuilder().add(kWord, "x").build()},
          {.path = kNoText, .data = to_bytes("#!/bin/sh\n")}};
}

SampleTree linked() {
  SampleTree out = tree();
  out.push_back({.path = "link" + kWord, .kind = EntryKind::symbolic_link, .target = "../" + kWord});
  return out;
}

Bytes zip() {
  ZipBuilder builder;
  builder.comment(kWord).link("l" + kWord, "../../" + kWord).folder(kWord);
  builder.add({.name = kWord, .data = to_bytes("x"), .utf8 = true, .comment = kWord});
  builder.add({.name = kNoText, .data = to_bytes("x"), .crc = 7});
  builder.add({.name = "p" + kWord, .data = to_bytes("x"), .password = "reef", .utf8 = true});
  builder.add({.name = "m" + kWord, .data = to_bytes("x"), .method = 77, .utf8 = true});
  return builder.add({.name = "c", .data = to_bytes("x"), .local_name = kWord}).build();
}

Bytes tar() {
  TarBuilder builder;
  builder.pax({{"comment", kWord}, {"GNU." + kWord, kWord}}, 'g');
  builder.folder(kWord).file(kNoText, "x").symbolic("s", "../" + kWord).hard("h", kWord);
  builder.pax({{"path", kWord + kWord}, {"size", kWord}}).file("x", "x");
  builder.pax({{"path", kWord}, {"linkpath", kWord}}).hard("h2", "x");
  return builder.add({.name = "t" + kWord, .data = {}, .typeflag = '\x1b'}).build();
}

Bytes ar() {
  auto member = [](std::string name, std::string size) {
    name.resize(16, ' ');
    size.resize(10, ' ');
    return name + "0           0     0     100644  " + size + "`\nxx";
  };
  return to_bytes("!<arch>\n" + member("a\x1b[31m", "2") + member("b", "\x1b]0;x\x07"));
}

Bytes deb() {
  return make_deb(tree(),
                  "#!/bin/sh\nrm /etc/" + kWord + "\nln -s /a /b" + kWord + "\nuseradd " + kWord + "\n");
}

Bytes msi() {
  std::string word = kWord;
  return make_msi(sample_msi({{word, noise(60)}}, make_cab({{{{word, noise(60)}}}}), "#" + word));
}

const Sample kSamples[] = {
    {"zip", zip},
    {"tar", tar},
    {"tar_gz", [] { return encode("gzip", tar()); }},
    {"ar", ar},
    {"cab",
     [] {
       return make_cab({{{{kWord, noise(60)}, {"..\\" + kNoText, noise(60)}}}});
     }},
    {"cfb",
     [] {
       return make_cfb(
           {{.name = u"s\x1b\u202e", .storage = true}, {.name = u"t\x07", .parent = 0, .data = noise(50)}});
     }},
    {"msi", msi},
    {"pe",
     [] {
       Bytes version = make_version({{"ProductName", kWord}, {kWord, kWord}});
       return make_pe({{.type = 16, .data = version},
                       {.type_name = kWord, .name = kWord, .data = ZipBuilder().add(kWord, "x").build()}});
     }},
    {"script",
     [] {
       return to_bytes("#!/bin/sh " + kWord + "\nexit\n" + std::string(as_text(encode("gzip", tar()))));
     }},
    {"deb", deb},
    {"rpm", [] { return make_rpm(linked(), {.post = "rm " + kWord + "\n"}); }},
    {"xar", [] { return make_xar(tree(), {.note = kWord}); }},
    {"wim", [] { return make_wim(tree(), {})[0]; }},
    {"ext", [] { return make_ext(linked(), 1 << 20, kWord); }},
    {"fat", [] { return make_fat(tree(), 16, kWord.substr(0, 11)); }},
    {"exfat", [] { return make_exfat(tree(), kWord.substr(0, 11)); }},
    {"hfs", [] { return make_hfs(tree()); }},
    {"iso", [] { return make_iso(linked()); }},
    {"udf", [] { return make_udf(linked()); }},
    {"squashfs", [] { return make_squashfs(linked()); }},
    {"gpt",
     [] {
       return make_gpt({{noise(5000), kWord}, {make_ext(tree(), 1 << 20, kWord), kWord}});
     }},
    {"apple",
     [] {
       return make_apple_map({{noise(5000), kWord.substr(0, 30), kWord.substr(0, 30)}});
     }},
    {"vmdk",
     [] { return make_vmdk(make_ext(tree(), 1 << 20), {.parent = kWord, .parent_disk = Bytes(1 << 20)}); }},
    {"qcow2", [] { return make_qcow2(make_ext(tree(), 1 << 20), {.parent = kWord, .snapshot = kWord}); }},
};

using Words = std::vector<std::string>;

struct HostileWords : testing::Test {
  TempFolder folder;
  Words packs;

  void SetUp() override {
    for (const Sample& sample : kSamples) {
      packs.push_back(std::string(sample.name) + ".bin");
      folder.write(packs.back(), ByteView(sample.make()));
    }
  }
  void expect_safe(const Words& words) {
    Ran ran = operculum(words, folder.path(), {{"OPERCULUM_PASSWORD", "wrong"}});
    EXPECT_LT(ran.exit_code, 128) << testing::PrintToString(words);
    EXPECT_EQ(unsafe(ran.out), "") << testing::PrintToString(words) << "\n" << ran.out;
    EXPECT_EQ(unsafe(ran.err), "") << testing::PrintToString(words) << "\n" << ran.err;
  }
  /// One run for all of them, so that the many runs take seconds.
  void expect_safe_of_all(Words words) {
    words.insert(words.end(), packs.begin(), packs.end());
    expect_safe(words);
  }
};

TEST_F(HostileWords, AreOnlyLettersInEveryOutput) {
  const Words commands[] = {{"identify"},
                            {"identify", "--brief"},
                            {"identify", "--json"},
                            {"identify", "--search"},
                            {"list"},
                            {"list", "--long", "--view", "stored"},
                            {"list", "--tree", "--deep"},
                            {"list", "--summary"},
                            {"list", "--kinds"},
                            {"list", "--paths", "--deep"},
                            {"list", "--csv", "--digest", "sha256"},
                            {"list", "--match", kWord},
                            {"verify", "--deep", "--verbose"},
                            {"verify", "--json"},
                            {"unpack", "--dry-run", "--name-as", "{title}{name}"},
                            {"unpack", "--deep", "--verbose", "--into", "deep"},
                            {"unpack", "--flat", "--portable-names", "--json", "--into", "flat"},
                            {"install-report", "--scripts"},
                            {"install-report", "--removal"},
                            {"install-report", "--json"},
                            {"find", "--match", "**", "--versions"},
                            {"find", "--text", "e", "--all-hits"},
                            {"find", "--only-kind", "text", "--json"},
                            {"order"},
                            {"order", "--json"},
                            {"order", "--ignore-case", "--unpack-winners", "merged"},
                            {"catalogue", "words.db"}};
  for (const Words& words : commands) expect_safe_of_all(words);
  expect_safe({"catalogue", "report", "words.db"});
  expect_safe({"catalogue", "report", "words.db", "--csv"});
  expect_safe({"catalogue", "report", "words.db", "--json"});
  expect_safe({"find", "--catalogue", "words.db", "--match", "**"});
}

TEST_F(HostileWords, AreOnlyLettersWhereOnePackIsNamed) {
  for (const std::string& pack : packs) {
    expect_safe({"show", pack + "/" + kWord + "/none"});
    expect_safe({"unpack", pack, "--receipt", pack + ".json", "--into", pack + ".out"});
    expect_safe({"discard", "--verbose", pack + ".json"});
    expect_safe({"compare", "--metadata", pack, packs.front()});
    expect_safe({"compare", "--deep", "--json", packs.front(), pack});
  }
}

TEST_F(HostileWords, AreOnlyLettersWhereAPackIsDamaged) {
  for (const std::string& pack : Words(packs)) {
    std::string whole = folder.read(pack), flipped = whole;
    for (std::size_t at = 40; at < flipped.size(); at += flipped.size() / 23 + 1) flipped[at] ^= 0x11;
    folder.write(pack, whole.substr(0, whole.size() * 2 / 3));
    folder.write("flipped-" + pack, flipped);
    packs.push_back("flipped-" + pack);
  }
  const Words commands[] = {{"identify"},
                            {"list", "--long", "--deep"},
                            {"verify", "--deep"},
                            {"verify", "--json"},
                            {"unpack", "--keep-damaged", "--into", "damaged"},
                            {"find", "--text", "e"},
                            {"order", "--only-conflicts"},
                            {"catalogue", "damaged.db", "--verify", "--digests"}};
  for (const Words& words : commands) expect_safe_of_all(words);
}

TEST_F(HostileWords, InNamesOnDiskAndOnTheCommandLine) {
  folder.write(kWord, ByteView(zip()));
  folder.write(kWord + ".layout", "layout \"" + kWord + "\"\nrecord " + kWord + "\nentry " + kNoText);
  folder.write("paths.txt", "no\\such escape" + kWord.substr(0, 9));
  for (const char* command : {"identify", "list", "verify", "unpack", "install-report", "show"}) {
    expect_safe({command, kWord});
    expect_safe({command, "nowhere/" + kWord});
    expect_safe({command, kWord + "/" + kWord + kWord});
  }
  expect_safe({"list", ".", "--match", kWord});
  expect_safe({"unpack", kWord, "--list-from", "paths.txt"});
  expect_safe({"unpack", kWord, "--into", kWord + kWord, "--receipt", kWord + ".json"});
  expect_safe({"discard", kWord + ".json"});
  expect_safe({"discard", kWord});
  expect_safe({"layout", "check", kWord + ".layout"});
  expect_safe({"layout", "check", kWord + ".layout", kWord});
  expect_safe({"list", "--layout", kWord + ".layout", kWord});
  expect_safe({"list", "--view", kWord, kWord});
  expect_safe({"list", "--names-in", kWord, kWord});
  expect_safe({"list", "--sort", kWord, kWord});
  expect_safe({kWord, kWord});
  expect_safe({"list", "--" + kWord});
  expect_safe({"mount", kWord, "nowhere/" + kWord});
}

}  // namespace
}  // namespace operculum::test
