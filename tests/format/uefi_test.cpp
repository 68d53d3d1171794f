// UEFI firmware: volumes, files, sections, variables, capsules.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "codec/x86_branches.h"
#include "format/firmware/uefi_names.h"
#include "format/firmware/uefi_te.h"
#include "support/firmware_writer.h"
#include "support/has.h"
#include "support/open.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

constexpr const char* kLzma = "ee4e5898-3914-4259-9d6e-dc7bd79403cf";
constexpr const char* kFirst = "11111111-2222-3333-4444-555555555555";
constexpr const char* kSecond = "22222222-2222-3333-4444-555555555555";

Bytes tide_driver() {
  Bytes depex = ByteWriter().u8(2).bytes(guid_bytes("665e3ff6-46cc-11d4-9a38-0090273fc14d")).u8(8).take();
  return uefi_file(kFirst, 7,
                   {uefi_section(0x13, depex), uefi_section(0x10, noise(700)), uefi_name("TideDxe"),
                    uefi_section(0x14, to_bytes(std::string_view("\0\0001\0.\0002\0\0\0", 10)))});
}

TEST(UefiVolume, FilesByTheirNamesAndSections) {
  Held held = open_bytes(uefi_volume({tide_driver(), uefi_file(kSecond, 1, {to_bytes("just data")})}, 8192));
  ASSERT_EQ(held.format(), "uefi");
  EXPECT_EQ(text_at(*held, "volume-00000000/TideDxe/image.efi"), as_text(noise(700)));
  EXPECT_EQ(text_at(*held, "volume-00000000/TideDxe/dxe.depex.txt"),
            "PUSH 665e3ff6-46cc-11d4-9a38-0090273fc14d (BdsArch)\nEND\n");
  EXPECT_EQ(text_at(*held, std::string("volume-00000000/") + kSecond + "/raw.bin"), "just data");
  EXPECT_TRUE(has(entry_at(*held, "volume-00000000/TideDxe").extra->comment, "version 1.2"));
  EXPECT_EQ(entry_at(*held, "volume-00000000/TideDxe").extra->type_tag, "driver");
  EXPECT_TRUE(held->findings().empty());
}

TEST(UefiVolume, PackedSectionsAndNestedVolumes) {
  Bytes inner = uefi_section(0x17, uefi_volume({tide_driver()}, 4096));
  Bytes packed = uefi_guided(kLzma, encode("lzma-alone", inner));
  Held held =
      open_bytes(uefi_volume({uefi_file("9e21fd93-9c72-4c15-8c4b-e77f1db2d792", 0x0B, {packed})}, 8192));
  std::string path = "volume-00000000/FvMainCompact/volume-00000004/TideDxe/image.efi";
  EXPECT_EQ(text_at(*held, path), as_text(noise(700)));
  EXPECT_EQ(entry_at(*held, path).method, "lzma-alone");
  EXPECT_TRUE(has(entry_at(*held, "volume-00000000/FvMainCompact").extra->comment, "packed by LZMA"));
}

TEST(UefiVolume, WhatIsNotKnownIsNamedAndKept) {
  Held held = open_bytes(
      uefi_volume({uefi_file(kFirst, 7, {uefi_guided("99999999-2222-3333-4444-555555555555", noise(100))}),
                   tide_driver()},
                  8192));
  EXPECT_TRUE(has_finding(*held, "Unsupported: sections packed by 99999999-2222"));
  EXPECT_EQ(text_at(*held, "volume-00000000/TideDxe/image.efi"), as_text(noise(700)));
}

TEST(UefiVolume, DamageCostsOnlyWhatItHit) {
  Bytes volume = uefi_volume({tide_driver(), uefi_file(kSecond, 1, {to_bytes("just data")})}, 8192);
  std::string_view text = as_text(volume);
  std::size_t second = text.find(as_text(guid_bytes(kSecond)));
  volume[second + 20] ^= 0x40;  // its size
  Held held = open_bytes(volume);
  EXPECT_TRUE(has_finding(*held, "the file header at offset"));
  EXPECT_EQ(text_at(*held, "volume-00000000/TideDxe/image.efi"), as_text(noise(700)));
}

TEST(UefiVolume, VariablesAreFilesAndText) {
  Bytes store = uefi_variables(
      {{"Lang", to_bytes("eng")}, {"BootOrder", {1, 0, 0, 0}}, {"Old", to_bytes("x"), 0x3C}}, 2048);
  Held held = open_bytes(uefi_volume({store}, 4096, "fff12b8d-7696-4c8b-a985-2747075b4f50"));
  EXPECT_EQ(text_at(*held, "volume-00000000/variables/Lang-8be4df61-93ca-11d2-aa0d-00e098032b8c"), "eng");
  std::string text = text_at(*held, "volume-00000000/variables.txt");
  EXPECT_TRUE(has(text, "EfiGlobalVariable Lang = \"eng\" (non-volatile, boot, runtime)"));
  EXPECT_TRUE(has(text, "EfiGlobalVariable BootOrder = 0001 0000"));
  EXPECT_TRUE(has(text, "Old = \"x\"") || has(text, "Old = 120 (non-volatile, boot, runtime; deleted)"));
}

TEST(UefiFlash, RegionsOfTheDescriptor) {
  Canvas chip(64 * 1024);
  chip.u32(16, 0x0FF0A55A);
  chip.u32(20, 4u << 16);      // regions at 0x40
  chip.u32(0x40, 0);           // descriptor: 0 to 0xfff
  chip.u32(0x44, 0x000F0008);  // firmware: 0x8000 to 0xffff
  chip.u32(0x48, 0x00070001);  // engine: 0x1000 to 0x7fff
  chip.u32(0x4C, 0x00007FFF);  // not there
  chip.put(0x8000, uefi_volume({tide_driver()}, 8192));
  chip.put(0x1000, noise(100));
  Held held = open_bytes(chip.take());
  ASSERT_EQ(held.format(), "uefi");
  EXPECT_EQ(text_at(*held, "bios/volume-00008000/TideDxe/image.efi"), as_text(noise(700)));
  EXPECT_EQ(entry_at(*held, "me.region").size, 0x7000u);
}

/// A capsule of drivers and payloads.
Bytes managed_capsule(const Bytes& body) {
  return ByteWriter()
      .bytes(guid_bytes("6dcbd5ed-e82d-4c44-bda1-7194199ad92a"))
      .u32(28)
      .u32(0x50000)
      .u32(28 + body.size())
      .bytes(body)
      .take();
}

TEST(UefiCapsule, PayloadsOfTheManagedForm) {
  ByteWriter body;
  body.u32(1).u16(0).u16(1).u64(16);
  body.u32(2).bytes(guid_bytes(kFirst)).u8(1).zeros(3).u32(9).u32(0).u64(0).text("new tides");
  Bytes capsule = managed_capsule(body.view());
  Held held = open_bytes(capsule);
  ASSERT_EQ(held.format(), "uefi");
  EXPECT_EQ(text_at(*held, "payload-0.bin"), "new tides");
  EXPECT_GT(read_every_prefix(capsule, "cut.cap"), 0u);
}

TEST(UefiCapsule, APlaceOutsideOfItCostsOnlyThatPayload) {
  ByteWriter body;
  body.u32(1).u16(0).u16(2).u64(24).u64(4096);
  body.u32(2).bytes(guid_bytes(kFirst)).u8(1).zeros(3).u32(9).u32(0).u64(0).text("new tides");
  Held held = open_bytes(managed_capsule(body.view()));
  EXPECT_TRUE(has_finding(*held, "capsule: payload 1 lies at 4124, outside of it"));
  EXPECT_EQ(text_at(*held, "payload-0.bin"), "new tides");
}

TEST(UefiVolume, APackedSectionThatClaimsTooMuchIsTold) {
  constexpr unsigned kCompression = 1, kStandard = 1;
  Bytes packed = ByteWriter().u32(1u << 31).u8(kStandard).u32(20).u32(1u << 31).zeros(20).take();
  Held held = open_bytes(uefi_volume({uefi_file(kFirst, 7, {uefi_section(kCompression, packed)})}, 4096));
  EXPECT_TRUE(has_finding(*held, "a packed section of more than 1 GiB"));
}

TEST(UefiVolume, SurvivesCutsAndFlips) {
  Bytes volume = uefi_volume({tide_driver()}, 4096);
  volume.resize(1200);
  read_every_prefix(volume, "cut.fv");
  EXPECT_GT(read_with_flips(volume, 300, false), 0u);
}

TEST(TerseImages, BecomeWhatTheyWereMadeOf) {
  // a PE image of one section: headers of 0x1F8 bytes and a row of the section table
  constexpr std::size_t kStripped = 0x180;
  ByteWriter te;
  te.text("VZ")
      .u16(0x8664)
      .u8(1)
      .u8(11)
      .u16(kStripped)
      .u32(0x1000)
      .u32(0x1000)
      .u64(0x400000)
      .u32(0)
      .u32(0)
      .u32(0)
      .u32(0);
  te.text(".text").zeros(3).u32(64).u32(0x1000).u32(64).u32(kStripped + 40).zeros(16);
  te.bytes(noise(64));
  auto made = uefi::rebuild_te(te.view());
  ASSERT_TRUE(made);
  Held held = open_bytes(*made, "driver.efi");
  EXPECT_EQ(held.format(), "pe");
  EXPECT_EQ((*made).size(), kStripped + 40 + 64);
  Bytes cut(te.view().begin(), te.view().begin() + 20);
  EXPECT_FALSE(uefi::rebuild_te(cut));
}

TEST(X86Branches, TargetsAreRelativeAgain) {
  // a call at 5, to 0x105: stored as the absolute address 0x105
  Bytes code = {0x90, 0x90, 0x90, 0x90, 0x90, 0xE8, 0x05, 0x01, 0, 0, 0xC3, 0x90, 0x90};
  restore_x86_branches(code);
  EXPECT_EQ(code, (Bytes{0x90, 0x90, 0x90, 0x90, 0x90, 0xE8, 0xFB, 0, 0, 0, 0xC3, 0x90, 0x90}));
  Bytes other = {0xE8, 1, 2, 3, 0x44, 0x90};  // its high byte is no sign: it was not changed
  Bytes same = other;
  restore_x86_branches(other);
  EXPECT_EQ(other, same);
}

}  // namespace
}  // namespace operculum
