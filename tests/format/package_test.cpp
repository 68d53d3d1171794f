// RPM, Debian packages, xar, Windows imaging archives, chunked xz.
#include <gtest/gtest.h>

#include <filesystem>

#include "base/fields.h"
#include "support/block_packer.h"
#include "support/counting_source.h"
#include "support/open.h"
#include "support/package_writer.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

SampleTree installed_tree() {
  Bytes chart;
  for (int i = 0; i < 5000; ++i) {
    std::string line = "depth " + std::to_string(i * 7 % 311) + " m\n";
    chart.insert(chart.end(), line.begin(), line.end());
  }
  return {{.path = "usr", .kind = EntryKind::folder},
          {.path = "usr/bin", .kind = EntryKind::folder},
          {.path = "usr/bin/chart", .data = noise(70'000), .mode = 0755},
          {.path = "usr/share", .kind = EntryKind::folder},
          {.path = "usr/share/chart.txt", .data = chart},
          {.path = "usr/share/empty", .data = {}},
          {.path = "usr/share/latest", .kind = EntryKind::symbolic_link, .target = "chart.txt"}};
}

SampleTree with_hard_link() {
  SampleTree tree = installed_tree();
  tree.push_back(
      {.path = "usr/share/same.txt", .kind = EntryKind::hard_link, .target = "usr/share/chart.txt"});
  return tree;
}

Held open_viewed(const Bytes& bytes, const std::string& view) {
  return open_bytes(bytes, "sample", As::file, [&](OpenContext& context) { context.view = view; });
}

// ---- RPM

struct Rpm : testing::TestWithParam<std::string> {};

TEST_P(Rpm, GivesTheInstalledTree) {
  Held held = open_bytes(make_rpm(installed_tree(), {.codec = GetParam()}), "chart.pkg");
  ASSERT_EQ(held.format(), "rpm");
  EXPECT_EQ(compare_tree(held, installed_tree()), "");
  EXPECT_EQ(entry_at(*held, "usr/bin/chart").mode, 0755u);
  EXPECT_EQ(entry_at(*held, "usr/bin/chart").extra->owner, "root");
  EXPECT_TRUE(entry_at(*held, "usr/bin/chart").is(Entry::has_sum));
}

INSTANTIATE_TEST_SUITE_P(Codecs, Rpm, testing::Values("stored", "gzip", "bzip2", "xz", "lzma-alone", "zstd"),
                         [](const auto& one) { return one.param == "lzma-alone" ? "lzma" : one.param; });

TEST(RpmForms, HardLinksShareTheLastData) {
  Held held = open_bytes(make_rpm(with_hard_link()));
  EXPECT_EQ(entry_at(*held, "usr/share/chart.txt").kind, EntryKind::hard_link);
  EXPECT_EQ(entry_at(*held, "usr/share/chart.txt").link_target(), "usr/share/same.txt");
  EXPECT_EQ(text_at(*held, "usr/share/same.txt"), as_text(installed_tree()[4].data));
}

TEST(RpmForms, FilesWithoutNamesAreFoundByNumber) {
  Held held = open_bytes(make_rpm(installed_tree(), {.nameless = true}));
  EXPECT_EQ(compare_tree(held, installed_tree()), "");
}

TEST(RpmForms, DigestsAreCompared) {
  for (unsigned kind : {1u, 8u}) {
    Bytes bytes = make_rpm(installed_tree(), {.codec = "stored", .digest = kind});
    bytes[bytes.size() - 30'000] ^= 1;  // within the text, which is the last large file
    Held held = open_bytes(bytes);
    EXPECT_REFUSAL(text_at(*held, "usr/share/chart.txt"), Malformed, " differs (stored ") << kind;
    EXPECT_EQ(text_at(*held, "usr/bin/chart"), as_text(noise(70'000)));
  }
  Bytes bytes = make_rpm(installed_tree());
  auto mark = std::search(bytes.begin(), bytes.end(), as_bytes("Shows the tide").begin(),
                          as_bytes("Shows the tide").end());
  ASSERT_NE(mark, bytes.end());
  *mark = 'X';
  EXPECT_TRUE(has_finding(*open_bytes(bytes), "does not fit its sha256"));
}

TEST(RpmForms, ACutDownloadIsSaidFirst) {
  Bytes bytes = make_rpm(installed_tree(), {.codec = "gzip"});
  bytes.resize(bytes.size() - 1000);
  Held held = open_bytes(bytes);
  ASSERT_FALSE(held->findings().empty());
  EXPECT_NE(held->findings()[0].text.find("the package is cut short: it states"), std::string::npos);
}

TEST(RpmForms, PartsAreTheStoredView) {
  Held held = open_viewed(make_rpm(installed_tree(), {.codec = "xz"}), "stored");
  EXPECT_EQ(paths_of(*held), "lead signature-header header payload.cpio.xz");
  Bytes damaged = make_rpm(installed_tree(), {.codec = "xz"});
  damaged[damaged.size() - 30] ^= 1;
  EXPECT_EQ(text_of(*held, 3).substr(1, 4), "7zXZ");
  EXPECT_REFUSAL(text_of(*open_viewed(damaged, "stored"), 3), Malformed,
                 "sha256 differs (stored 394ffc76da4de2b54d8657e7d5ee4ffe330b5b0404a2544ff164e507f0d533e5, "
                 "computed ad5cd362a7cc547224dce9d307a61a4afd5316ec1838d9eb466afef3116fd7c9); the data is "
                 "damaged");  // the payload has a digest of its own
  Held installed = open_bytes(make_rpm(installed_tree(), {.codec = "xz"}));
  EXPECT_EQ(installed->find("payload.cpio.xz").kind, Lookup::Kind::entry);
}

TEST(RpmForms, TellsItsScripts) {
  Held held = open_bytes(make_rpm(installed_tree(), {.post = "systemctl enable chart\n"}));
  auto plan = held->installation();
  ASSERT_TRUE(plan);
  ASSERT_EQ(plan->actions.size(), 1u);
  EXPECT_EQ(plan->actions[0].name, "post");
  EXPECT_EQ(plan->actions[0].text, "systemctl enable chart\n");
  EXPECT_EQ(plan->needs, std::vector<std::string>{"/bin/sh"});
}

TEST(RpmForms, SurvivesCuts) {
  SampleTree tree = {{.path = "a.txt", .data = to_bytes("tide\n")}};
  EXPECT_GT(read_every_prefix(make_rpm(tree, {.codec = "stored"}), "cut.rpm"), 0u);
}

// ---- Debian packages

TEST(Deb, GivesTheInstalledTree) {
  Held held = open_bytes(make_deb(installed_tree(), "#!/bin/sh\necho ready\n"), "chart.zip");
  ASSERT_EQ(held.format(), "deb");
  EXPECT_EQ(text_at(*held, "usr/share/chart.txt"), as_text(installed_tree()[4].data));
  EXPECT_EQ(entry_at(*held, "usr/share/latest").link_target(), "chart.txt");
  auto plan = held->installation();
  ASSERT_TRUE(plan);
  EXPECT_EQ(plan->actions[0].name, "postinst");
  EXPECT_EQ(plan->needs, (std::vector<std::string>{"libtide (>= 2)", "fonts-dial"}));
  EXPECT_EQ(plan->about[0].second, "chart-display");
  EXPECT_EQ(held->find("control.tar.gz").kind, Lookup::Kind::entry);
}

TEST(Deb, ItsMembersAreFoundWithoutDecodingTheData) {
  SampleTree tree = {{.path = "chart.bin", .data = noise(1 << 20)}};
  auto source = std::make_shared<CountingSource>(make_deb(tree, ""));
  Held held = open_source(source, "chart.deb");
  std::uint64_t opened = source->given;
  EXPECT_EQ(held->find("data.tar.xz").kind, Lookup::Kind::entry);
  EXPECT_EQ(held->find("control.tar.gz").kind, Lookup::Kind::entry);
  EXPECT_LT(source->given - opened, 1u << 16);
  EXPECT_EQ(held->find("chart.bin").kind, Lookup::Kind::entry);
  EXPECT_EQ(held->find("Chart.bin").similar, "chart.bin");
}

TEST(Deb, DigestsAreCompared) {
  SampleTree tree = installed_tree();
  Bytes good = make_deb(tree, "");
  tree[2].data[5] ^= 1;
  Bytes other = make_deb(tree, "");
  // the control archive of one with the data of the other
  auto data_of = [](const Bytes& deb) {
    auto mark =
        std::search(deb.begin(), deb.end(), as_bytes("data.tar.xz").begin(), as_bytes("data.tar.xz").end());
    return static_cast<std::size_t>(mark - deb.begin());
  };
  Bytes mixed(good.begin(), good.begin() + static_cast<std::ptrdiff_t>(data_of(good)));
  mixed.insert(mixed.end(), other.begin() + static_cast<std::ptrdiff_t>(data_of(other)), other.end());
  Held held = open_bytes(mixed);
  EXPECT_REFUSAL(text_at(*held, "usr/bin/chart"), Malformed,
                 "md5 differs (stored 136fee0874fe4479824734424ecfa674, computed "
                 "6be5a9ad0132efd6386705f08a32d82b); the data is damaged");
  EXPECT_EQ(text_at(*held, "usr/share/chart.txt"), as_text(tree[4].data));
  TempFolder folder;
  folder.write("mixed.deb", mixed);
  Ran ran = operculum({"verify", "mixed.deb"}, folder.path());
  EXPECT_NE(ran.out.find("usr/bin/chart: md5 differs"), std::string::npos) << ran.out;
}

TEST(Deb, AgreesWithThePackageManager) {
  if (!on_path("dpkg-deb")) GTEST_SKIP() << "dpkg-deb is not here";
  for (const char* codec : {"none", "gzip", "xz", "zstd"}) {
    TempFolder folder;
    folder.write("tree/DEBIAN/control",
                 "Package: chart\nVersion: 1\nArchitecture: all\nMaintainer: Saltmarsh Point <a@b.invalid>\n"
                 "Description: tide chart\n");
    folder.write("tree/usr/bin/chart", noise(30'000));
    folder.write("tree/usr/share/chart/tide.txt", "high\n");
    Ran made = run("dpkg-deb", {"--root-owner-group", std::string("-Z") + codec, "-b", "tree", "chart.deb"},
                   folder.path());
    if (made.exit_code != 0) continue;  // an older one knows fewer codecs
    Ran ran = operculum({"unpack", "chart.deb", "--into", "ours"}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << codec << ran.err;
    ASSERT_EQ(run("dpkg-deb", {"-x", "chart.deb", "theirs"}, folder.path()).exit_code, 0);
    EXPECT_EQ(folder.listing("ours"), folder.listing("theirs"));
    EXPECT_EQ(folder.read("ours/usr/bin/chart"), folder.read("theirs/usr/bin/chart"));
  }
}

// ---- xar

struct Xar : testing::TestWithParam<std::pair<std::string, std::string>> {};

TEST_P(Xar, GivesTheTree) {
  Held held = open_bytes(make_xar(installed_tree(), {.encoding = GetParam().first, .sum = GetParam().second}),
                         "chart.pkg");
  ASSERT_EQ(held.format(), "xar");
  EXPECT_EQ(compare_tree(held, installed_tree()), "");
  EXPECT_EQ(entry_at(*held, "usr/bin/chart").extra->owner, "curator");
}

INSTANTIATE_TEST_SUITE_P(Encodings, Xar,
                         testing::Values(std::pair("application/octet-stream", "md5"),
                                         std::pair("application/x-gzip", "sha1"),
                                         std::pair("application/x-bzip2", "sha512"),
                                         std::pair("application/x-lzma", "sha1"),
                                         std::pair("application/x-xz", "sha256")));

/// An archive of this table of contents and nothing else.
Bytes xar_of(std::string_view table) {
  Bytes packed = pack_block(BlockCodec::zlib, as_bytes(table));
  return ByteWriter()
      .text("xar!")
      .u16be(28)
      .u16be(1)
      .u64be(packed.size())
      .u64be(table.size())
      .u32be(0)
      .bytes(packed)
      .take();
}

TEST(XarForms, TablesThatCannotBeAreTold) {
  EXPECT_REFUSAL(open_bytes(xar_of("<xar><toc><file")), Malformed, "xar table of contents: ");
  Held held = open_bytes(
      xar_of("<xar><toc><file id=\"1\"><name>a</name><type>file</type><ea id=\"0\"><name>tide</name>"
             "<size>99000000</size><length>9</length><offset>0</offset></ea></file></toc></xar>"));
  EXPECT_TRUE(has_finding(*held, "99000000 bytes of extended attributes"));
}

TEST(XarForms, ChecksumsAreCompared) {
  Bytes bytes = make_xar(installed_tree(), {.encoding = "application/octet-stream"});
  Bytes table = bytes;
  table[28 + 40] ^= 1;
  EXPECT_REFUSAL(open_bytes(table), Malformed,
                 "deflate data near packed offset 54: invalid literal/lengths set");
  bytes[bytes.size() - 5] ^= 1;
  Held held = open_bytes(bytes);
  EXPECT_REFUSAL(text_at(*held, "usr/share/chart.txt"), Malformed,
                 "sha1 differs (stored e14f1b51babf55b2f7e42aa1fb521a8f517c9f01, computed "
                 "a9294d1baf71a38acf1467985c83c722215ddbb9); the data is damaged");
  Bytes sum = make_xar(installed_tree());
  std::size_t heap = 28 + static_cast<std::size_t>(BigFields(sum, "").u64(8));
  sum[heap] ^= 1;
  EXPECT_TRUE(has_finding(*open_bytes(sum), "does not fit its sha1"));
}

TEST(XarForms, ExtendedAttributesAreRead) {
  Held held = open_bytes(make_xar(installed_tree(), {.note = "keep dry"}));
  using Attributes = std::vector<std::pair<std::string, std::string>>;
  EXPECT_EQ(entry_at(*held, "usr/bin/chart").extra->attributes, (Attributes{{"note", "keep dry"}}));
  EXPECT_EQ(entry_at(*held, "usr").extra->attributes, Attributes{});
  EXPECT_EQ(compare_tree(held, installed_tree()), "");
  Bytes cut =
      make_xar({{.path = "a", .data = noise(9)}}, {.encoding = "application/octet-stream", .note = "x"});
  EXPECT_TRUE(held->findings().empty());
  cut.resize(cut.size() - 10);  // the attribute and the file
  Held damaged = open_bytes(cut);
  EXPECT_TRUE(has_finding(*damaged, "a: the extended attribute note is left out: its 1 bytes lie behind"));
}

TEST(XarForms, ACutDownloadIsSaid) {
  Bytes bytes = make_xar(installed_tree());
  bytes.resize(bytes.size() - 1000);
  EXPECT_TRUE(has_finding(*open_bytes(bytes), "the archive is cut short: its files reach"));
}

TEST(XarForms, SurvivesCuts) {
  SampleTree tree = {{.path = "a.txt", .data = to_bytes("tide\n")}};
  EXPECT_GT(read_every_prefix(make_xar(tree), "cut.xar"), 0u);
}

// ---- Windows imaging archives

struct WimCase {
  WimOptions::Packing packing;
  bool solid;
  std::string_view method;
};
struct Wim : testing::TestWithParam<WimCase> {};

TEST_P(Wim, GivesTheTree) {
  WimOptions options{.packing = GetParam().packing, .solid = GetParam().solid};
  Held held = open_bytes(make_wim(installed_tree(), options)[0], "kiosk.img");
  ASSERT_EQ(held.format(), "wim");
  EXPECT_EQ(compare_tree(held, installed_tree()), "");
  EXPECT_EQ(entry_at(*held, "usr/bin/chart").method, GetParam().method);
  Bytes part(1000);
  ContentPtr content = held->find("usr/share/chart.txt").open();
  ASSERT_TRUE(content->source());
  EXPECT_EQ(content->source()->read_at(40'000, part), 1000u);
  EXPECT_EQ(as_text(part), as_text(installed_tree()[4].data).substr(40'000, 1000));
}

using Packing = WimOptions::Packing;
INSTANTIATE_TEST_SUITE_P(
    Forms, Wim,
    testing::Values(WimCase{Packing::none, false, "stored"}, WimCase{Packing::none, true, "stored"},
                    WimCase{Packing::xpress, false, "xpress"}, WimCase{Packing::lzx, false, "lzx"},
                    WimCase{Packing::lzx, true, "lzx"}, WimCase{Packing::xpress, true, "xpress"}));

TEST(WimForms, HardLinksAndStreamsAreShown) {
  Held held = open_bytes(make_wim(with_hard_link(), {.streamed = "usr/bin/chart"})[0]);
  EXPECT_EQ(entry_at(*held, "usr/share/same.txt").kind, EntryKind::hard_link);
  EXPECT_EQ(entry_at(*held, "usr/share/same.txt").link_target(), "usr/share/chart.txt");
  EXPECT_EQ(text_at(*held, "usr/bin/chart:notes"), "read me twice");
  EXPECT_EQ(text_at(*held, "usr/bin/chart"), as_text(noise(70'000)));
}

TEST(WimForms, SeveralImagesAreFolders) {
  Held held = open_bytes(make_wim(installed_tree(), {.images = 2})[0]);
  EXPECT_EQ(text_at(*held, "1/usr/share/chart.txt"), text_at(*held, "2/usr/share/chart.txt"));
}

TEST(WimForms, SplitSetsAreJoinedAndAMissingPartIsNamed) {
  std::vector<Bytes> parts = make_wim(installed_tree(), {.parts = 2});
  TempFolder folder;
  folder.write("kiosk.swm", parts[0]);
  Ran alone = operculum({"unpack", "kiosk.swm", "--into", "part"}, folder.path());
  EXPECT_NE(alone.err.find("kiosk2.swm"), std::string::npos) << alone.err;
  folder.write("kiosk2.swm", parts[1]);
  for (const char* name : {"kiosk.swm", "kiosk2.swm"}) {
    Ran ran = operculum({"unpack", name, "--into", std::string("all-") + name}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << ran.err;
    EXPECT_EQ(folder.read(std::string("all-") + name + "/usr/share/chart.txt"),
              as_text(installed_tree()[4].data));
  }
}

TEST(WimForms, HashesAreCompared) {
  Bytes bytes = make_wim(installed_tree(), {.packing = Packing::none})[0];
  bytes[208 + 100] ^= 1;
  Held held = open_bytes(bytes);
  EXPECT_REFUSAL(text_at(*held, "usr/bin/chart"), Malformed,
                 "sha1 differs (stored bd69a03657454fbb30b8991711b84f4434b1524a, computed "
                 "30eb3c8138676087120aa1af333f49f057ac87cb); the data is damaged");
}

TEST(WimForms, SurvivesCutsAndFlips) {
  SampleTree tree = {{.path = "pool", .kind = EntryKind::folder},
                     {.path = "pool/a.txt", .data = Bytes(400, 'a')}};
  Bytes whole = make_wim(tree, {.packing = Packing::xpress})[0];
  EXPECT_GT(read_every_prefix(whole, "cut.wim"), 0u);
  for (std::size_t i = 0; i < whole.size(); ++i) {
    Bytes bad = whole;
    bad[i] ^= 0x81;
    try {
      Held held = open_bytes(bad);
      if (!held.opened.container) continue;
      for (std::size_t e = 0; e < held->entries().size(); ++e) {
        if (held->entries()[e].has_data()) text_of(*held, e);
      }
    } catch (const Error& error) {
      EXPECT_STRNE(error.what(), "");
    }
  }
}

// ---- chunked xz

TEST(ChunkedXz, GivesItsBytesAnywhere) {
  Bytes plain = noise(50'000);
  plain.resize(200'000, 'w');
  Held held = open_bytes(make_chunked_xz(plain, 40'000), "Payload");
  ASSERT_EQ(held.format(), "chunked-xz");
  EXPECT_EQ(text_of(*held, 0), as_text(plain));
  Bytes part(10);
  EXPECT_EQ(held->content(0)->source()->read_at(49'995, part), 10u);
  EXPECT_EQ(part, Bytes(plain.begin() + 49'995, plain.begin() + 50'005));
}

TEST(ChunkedXz, SurvivesCuts) {
  Bytes whole = make_chunked_xz(noise(900), 300);
  unsigned complete = 0;
  for (std::size_t size = 0; size < whole.size(); ++size) {
    try {
      Held held =
          open_bytes(Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size)), "Payload");
      if (held.format() != "chunked-xz") continue;
      text_of(*held, 0);
      EXPECT_TRUE(has_finding(*held, "may be cut short")) << size;
      ++complete;
    } catch (const Error& error) {
      EXPECT_STRNE(error.what(), "");
    }
  }
  EXPECT_EQ(complete, 2u);  // cut exactly between chunks
}

}  // namespace
}  // namespace operculum
