// File systems of flash chips, and dumps of them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "format/firmware/formats.h"
#include "format/firmware/partition_line.h"
#include "format/flash/nand_dump.h"
#include "support/firmware_writer.h"
#include "support/has.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/squashfs_writer.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

Bytes gauge_flash(std::endian order = std::endian::little) {
  Jffs2Writer flash(order);
  flash.folder(1, 2, "etc")
      .file(2, 3, "gauge.conf", to_bytes("station=7\n"))
      .file(1, 4, "levels.csv", Bytes(20'000, 'x'));
  flash.name(1, 5, "latest", 10, 1).piece(5, 0120777, 1, 0, to_bytes("levels.csv"), 10);
  // the second version of a file: one byte over another, and a new size
  flash.piece(3, 0100600, 2, 8, to_bytes("8\n"), 10);
  return flash.build(64 * 1024);
}

TEST(Jffs2, TheNewestVersionOfEachFile) {
  for (std::endian order : {std::endian::little, std::endian::big}) {
    Held held = open_bytes(gauge_flash(order));
    ASSERT_EQ(held.format(), "jffs2");
    EXPECT_EQ(text_at(*held, "etc/gauge.conf"), "station=8\n");
    EXPECT_EQ(text_at(*held, "levels.csv"), std::string(20'000, 'x'));
    EXPECT_EQ(entry_at(*held, "etc/gauge.conf").mode, 0600u);
    EXPECT_EQ(entry_at(*held, "latest").link_target(), "levels.csv");
    EXPECT_EQ(entry_at(*held, "levels.csv").method, "zlib");
    EXPECT_TRUE(held->findings().empty());
  }
}

TEST(Jffs2, PiecesOfAnotherPackingAreNamed) {
  constexpr unsigned kRubin = 5;
  Jffs2Writer flash;
  flash.name(1, 2, "a.txt", 8, 1).piece(2, 0100644, 1, 0, to_bytes("tide"), 4, kRubin);
  EXPECT_REFUSAL(text_at(*open_bytes(flash.build()), "a.txt"), Unsupported,
                 "Unsupported: JFFS2 data packed by ");
}

TEST(Jffs2, NamesThatWereTakenAwayAreAView) {
  Jffs2Writer flash;
  flash.file(1, 2, "notes.txt", to_bytes("first\n"), 1)
      .file(1, 3, "notes.txt", to_bytes("second\n"), 2)
      .file(1, 4, "gone.txt", to_bytes("gone\n"), 3);
  flash.name(1, 0, "gone.txt", 8, 4);
  Bytes image = flash.build();
  Held now = open_bytes(image);
  EXPECT_EQ(paths_of(*now), "notes.txt");
  EXPECT_EQ(text_at(*now, "notes.txt"), "second\n");
  Held all =
      open_bytes(image, "sample", As::file, [](OpenContext& context) { context.view = "with-deleted"; });
  EXPECT_EQ(paths_of(*all), "gone.txt.deleted-3 notes.txt notes.txt.deleted-1");
  EXPECT_EQ(text_at(*all, "gone.txt.deleted-3"), "gone\n");
}

TEST(Jffs2, HolesAndTruncation) {
  Jffs2Writer flash;
  flash.name(1, 2, "hole.bin", 8, 1)
      .piece(2, 0100644, 1, 0, to_bytes("begin"), 5)
      .piece(2, 0100644, 2, 100, to_bytes("end"), 103);
  flash.name(1, 3, "cut.bin", 8, 1)
      .piece(3, 0100644, 1, 0, to_bytes("long text"), 9)
      .piece(3, 0100644, 2, 0, {}, 4);
  Held held = open_bytes(flash.build());
  EXPECT_EQ(text_at(*held, "hole.bin"), "begin" + std::string(95, '\0') + "end");
  EXPECT_EQ(text_at(*held, "cut.bin"), "long");
}

TEST(Jffs2, DamagedNewerDataGivesTheOlder) {
  Bytes image = gauge_flash();
  std::string_view text = as_text(image);
  std::size_t at = text.rfind("8\n");
  image[at] = '9';
  Held held = open_bytes(image);
  EXPECT_EQ(text_at(*held, "etc/gauge.conf"), "station=7\n");
  EXPECT_TRUE(has_finding(*held, "do not fit their checksum"));
}

TEST(Jffs2, SurvivesCutsAndFlips) {
  Bytes image = Jffs2Writer().folder(1, 2, "etc").file(2, 3, "a.txt", to_bytes("tide\n")).build();
  EXPECT_GT(read_every_prefix(image, "cut.jffs2"), 0u);
  EXPECT_GT(read_with_flips(image, 400, false), 0u);
}

/// Metadata of a LittleFS image: tags of one commit in a block of 512 bytes.
class PairWriter {
 public:
  explicit PairWriter(std::uint32_t revision) { out_.u32(revision); }
  PairWriter& tag(std::uint32_t type, std::uint32_t id, const Bytes& data) {
    word(type << 20 | id << 10 | static_cast<std::uint32_t>(data.size()));
    out_.bytes(data);
    return *this;
  }
  Bytes build() {
    word(0x500u << 20 | 0x3FFu << 10 | 4);
    std::uint32_t crc = ~crc32(0, out_.view());
    Bytes block = out_.u32(crc).take();
    block.resize(512, 0xFF);
    return block;
  }

 private:
  void word(std::uint32_t tag) {
    out_.u32be(tag ^ before_);
    before_ = tag;
  }
  ByteWriter out_;
  std::uint32_t before_ = 0xFFFFFFFF;
};

Bytes little_flash() {
  Bytes super = ByteWriter().u32(0x00020000).u32(512).u32(16).u32(255).u32(0x7FFFFFFF).u32(1022).take();
  PairWriter root(2);
  root.tag(0x0FF, 0, to_bytes("littlefs")).tag(0x201, 0, super);
  root.tag(0x401, 1, {}).tag(0x001, 1, to_bytes("a.txt")).tag(0x201, 1, to_bytes("tide\n"));
  root.tag(0x401, 2, {})
      .tag(0x001, 2, to_bytes("large.bin"))
      .tag(0x202, 2, ByteWriter().u32(6).u32(1100).take());
  root.tag(0x401, 3, {}).tag(0x002, 3, to_bytes("pool")).tag(0x200, 3, ByteWriter().u32(2).u32(3).take());
  root.tag(0x401, 4, {}).tag(0x001, 4, to_bytes("gone")).tag(0x4FF, 4, {});
  Canvas image(512 * 16);
  image.put(0, root.build());
  image.put(512, PairWriter(1).tag(0x0FF, 0, to_bytes("littlefs")).tag(0x201, 0, super).build());
  image.put(1024, PairWriter(1)
                      .tag(0x401, 0, {})
                      .tag(0x001, 0, to_bytes("b.txt"))
                      .tag(0x201, 0, to_bytes("crab\n"))
                      .build());
  // the list of blocks 4, 5, 6: the second has one pointer, the third two
  Bytes large = noise(1100);
  image.put(4 * 512, ByteView(large).first(512));
  image.u32(5 * 512, 4);
  image.put(5 * 512 + 4, ByteView(large).subspan(512, 508));
  image.u32(6 * 512, 5);
  image.u32(6 * 512 + 4, 4);
  image.put(6 * 512 + 8, ByteView(large).subspan(1020));
  return image.take();
}

TEST(LittleFs, MetadataPairsAndListsOfBlocks) {
  Held held = open_bytes(little_flash());
  ASSERT_EQ(held.format(), "littlefs");
  EXPECT_EQ(paths_of(*held), "a.txt large.bin pool pool/b.txt");
  EXPECT_EQ(text_at(*held, "a.txt"), "tide\n");
  EXPECT_EQ(text_at(*held, "large.bin"), as_text(noise(1100)));
  EXPECT_EQ(text_at(*held, "pool/b.txt"), "crab\n");
  EXPECT_TRUE(held->findings().empty());
}

TEST(LittleFs, TheOlderCopyServesWhereTheNewerIsDamaged) {
  Bytes image = little_flash();
  image[40] ^= 1;  // within the first commit of the newer block
  Held held = open_bytes(image);
  EXPECT_EQ(paths_of(*held), "");
  EXPECT_GT(read_with_flips(little_flash(), 300, false), 0u);
}

/// Pages of a YAFFS2 image: 2,048 bytes and 64 spare ones, with the tags in front.
class YaffsWriter {
 public:
  YaffsWriter& object(std::uint32_t id, std::uint32_t type, std::uint32_t parent, const std::string& name,
                      std::uint32_t size = 0, std::uint32_t sequence = 0x1000, const std::string& target = "",
                      std::uint32_t same_as = 0) {
    Canvas page(2048);
    page.u32(0, type);
    page.u32(4, parent);
    page.u16(8, 0xFFFF);
    page.text(10, name);
    page.u32(268, type == 3 ? 040755 : type == 2 ? 0120777 : 0100644);
    page.u32(284, 1772373908);
    page.u32(292, size);
    page.u32(296, same_as);
    page.text(300, target);
    return add(page.take(), id, 0, 0xFFFF, sequence);
  }
  YaffsWriter& data(std::uint32_t id, std::uint32_t piece, const Bytes& bytes,
                    std::uint32_t sequence = 0x1000) {
    Bytes page = bytes;
    page.resize(2048, 0xFF);
    return add(page, id, piece, static_cast<std::uint32_t>(bytes.size()), sequence);
  }
  Bytes build() {
    out_.bytes(Bytes(2112, 0xFF));  // an erased page
    return out_.take();
  }

 private:
  YaffsWriter& add(const Bytes& page, std::uint32_t id, std::uint32_t piece, std::uint32_t size,
                   std::uint32_t sequence) {
    out_.bytes(page).u32(sequence).u32(id).u32(piece).u32(size).bytes(Bytes(48, 0xFF));
    return *this;
  }
  ByteWriter out_;
};

TEST(Yaffs, TheNewestPageOfEachPiece) {
  YaffsWriter flash;
  flash.object(257, 3, 1, "etc").object(258, 1, 257, "gauge.conf", 10).data(258, 1, to_bytes("station=7\n"));
  flash.object(259, 1, 1, "large.bin", 5000);
  Bytes large = noise(5000);
  for (std::uint32_t i = 0; i < 3; ++i)
    flash.data(259, i + 1, Bytes(large.begin() + i * 2048, large.begin() + std::min(5000u, (i + 1) * 2048)));
  flash.object(260, 2, 1, "latest", 0, 0x1000, "large.bin")
      .object(261, 4, 1, "second", 0, 0x1000, "", 258)
      .object(262, 1, 1, "gone", 0);
  flash.data(258, 1, to_bytes("station=8\n"), 0x1001).object(262, 1, 4, "deleted", 0, 0x1001);
  Bytes image = flash.build();
  Held held = open_bytes(image);
  ASSERT_EQ(held.format(), "yaffs2");
  EXPECT_EQ(text_at(*held, "etc/gauge.conf"), "station=8\n");
  EXPECT_EQ(text_at(*held, "large.bin"), as_text(large));
  EXPECT_EQ(entry_at(*held, "latest").link_target(), "large.bin");
  EXPECT_EQ(held->find("second").kind, Lookup::Kind::entry);
  EXPECT_EQ(held->find("gone").kind, Lookup::Kind::nothing);
  EXPECT_EQ(fact(*held, "page"), "2048 bytes and 64 spare");
  EXPECT_GT(read_with_flips(image, 200, false), 0u);
}

TEST(PartitionLine, SizesPlacesAndNames) {
  auto parts = read_partition_line(
      "mtdparts=flash0:256k(boot)ro,0x40000(env),1m@0x200000(kernel),-(rootfs);flash1:-(other)");
  ASSERT_EQ(parts.size(), 4u);
  EXPECT_EQ(parts[0].name, "boot");
  EXPECT_TRUE(parts[0].read_only);
  EXPECT_EQ(parts[1].at, 0x40000u);
  EXPECT_EQ(parts[2].at, 0x200000u);
  EXPECT_EQ(parts[3].at, 0x300000u);
  EXPECT_TRUE(parts[3].rest);
  for (const char* wrong :
       {"", "boot", "256k(boot", "-(all),1k(more)", "256k(boot)x", "99999999999999999999", "1g1"})
    EXPECT_REFUSAL(read_partition_line(wrong), Malformed, "--parts: ") << wrong;
}

TEST(CutFile, CutsOnlyTheFileItWasToldOf) {
  Bytes flash = gauge_flash();
  Bytes dump = make_boot_image("boot", noise(900));
  dump.resize(4096, 0xFF);
  dump.insert(dump.end(), flash.begin(), flash.end());
  Held held = open_bytes(dump, "dump", As::file, [](OpenContext& context) {
    context.preferred.push_back(cut_file_format(read_partition_line("4k(boot),-(settings)")));
  });
  EXPECT_EQ(paths_of(*held), "boot settings");
  EXPECT_EQ(text_at(*held, "settings"), as_text(flash));
  Opened inner = open_container({held->content(1), "settings"}, *held.context);
  EXPECT_EQ(inner.format->id, "jffs2");
}

TEST(SquashfsOfDevices, OtherMagicsAreTold) {
  Bytes image = make_squashfs({{.path = "a.txt", .data = to_bytes("tide\n")}});
  std::copy_n("shsq", 4, image.begin());
  Held held = open_bytes(image);
  ASSERT_EQ(held.format(), "squashfs");
  EXPECT_EQ(text_at(*held, "a.txt"), "tide\n");
  EXPECT_TRUE(has_finding(*held, "its magic is \"shsq\""));
  image[12] ^= 1;
  EXPECT_EQ(open_bytes(image).format(), "none");
}

/// A dump with parts at odd places, and noise between.
TEST(SearchedFirmware, PartsAreFoundWithTheirEnds) {
  Bytes dump = noise(5000, 11);
  auto append = [&](const Bytes& part) { dump.insert(dump.end(), part.begin(), part.end()); };
  append(make_boot_image("loader", noise(900, 3)));
  append(noise(333, 12));
  std::size_t bundle = dump.size();
  append(make_fit("update", {{"kernel-1", "kernel", make_boot_image("inner", noise(300))}}, true));
  std::size_t bundle_end = dump.size();
  append(noise(100, 13));
  std::size_t tree = dump.size();
  append(make_device_tree({"", {{"model", zero_ended("gauge")}}}));
  dump.resize(65536, 0xFF);
  append(gauge_flash());
  append(noise(70'000, 14));
  std::size_t volume = dump.size();
  append(uefi_volume({uefi_file("11111111-2222-3333-4444-555555555555", 1, {to_bytes("data")})}, 4096));
  Held held = open_by_search(dump);
  ASSERT_EQ(held.format(), "searched");
  EXPECT_EQ(
      paths_of(*held),
      fmt::format(
          "offset-00001388.uimg offset-{:08x}.itb offset-{:08x}.dtb offset-00010000.jffs2 offset-{:08x}.fd",
          bundle, tree, volume));
  // with the data behind its tree
  EXPECT_EQ(entry_at(*held, fmt::format("offset-{:08x}.itb", bundle)).size, bundle_end - bundle);
  EXPECT_EQ(entry_at(*held, "offset-00001388.uimg").size, 964u);
  EXPECT_EQ(entry_at(*held, "offset-00010000.jffs2").size, 65536u);
}

Bytes with_spares(const Bytes& data, std::size_t page, std::size_t spare, std::size_t bad_block,
                  std::size_t per_block) {
  Bytes out;
  for (std::size_t at = 0; at < data.size(); at += page) {
    std::size_t block = at / page / per_block;
    if (at / page % per_block == 0 && block == bad_block) {
      Bytes bad(per_block * (page + spare), 0xFF);
      bad[page] = 0;
      out.insert(out.end(), bad.begin(), bad.end());
    }
    Bytes part(data.begin() + static_cast<std::ptrdiff_t>(at),
               data.begin() + static_cast<std::ptrdiff_t>(std::min(data.size(), at + page)));
    part.resize(page + spare, 0xFF);
    out.insert(out.end(), part.begin(), part.end());
  }
  return out;
}

TEST(NandDump, SpareBytesAndBadBlocksAreLeftOut) {
  Bytes flash = gauge_flash();  // 64 KiB: 128 pages of 512 bytes, two blocks of 64
  Bytes dump = with_spares(flash, 512, 16, 1, 64);
  Held held = open_bytes(dump, "dump", As::file, [](OpenContext& context) {
    context.preferred.push_back(told_nand_dump_format({512, 16, 0}));
  });
  ASSERT_EQ(held.format(), "nand-dump");
  EXPECT_EQ(text_of(*held, 0), as_text(flash));
}

}  // namespace
}  // namespace operculum
