#include "collection/inventory.h"

#include <gtest/gtest.h>

#include "base/checksum.h"
#include "codec/codec.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"
#include "task/places.h"

namespace operculum::test {
namespace {

/// What one place holds, with all that it needs kept beside it.
struct Held {
  explicit Held(const std::string& target)
      : place(resolve_with_folders(target, context)),
        meter(context.limits, context.limits.spent->stored),
        reading{context, meter, progress},
        inventory(place, reading) {}
  const Item& at(const std::string& path) const {
    for (const Item& item : inventory.items) {
      if (item.path == path) return item;
    }
    throw std::runtime_error("no item " + path);
  }
  std::string text(const std::string& path) const {
    StreamPtr stream = inventory.content(at(path))->stream();
    Bytes bytes = read_all(*stream, 1000);
    return std::string(as_text(bytes));
  }
  OpenContext context;
  Progress progress;
  Place place;
  Meter meter;
  Reading reading;
  Inventory inventory;
};

Bytes archive() {
  return TarBuilder()
      .file("logs/tide.log", "old\n")
      .file("logs/tide.log", "new\n")
      .hard("second", "logs/tide.log")
      .build();
}

TEST(Inventory, TakesSumsOfWhatPassesByOnlyOnce) {
  TempFolder folder;
  Held held(folder.write("a.tar.gz", encode("gzip", archive())));
  EXPECT_EQ(held.inventory.items.size(), 2u);  // a later entry replaces the earlier one
  EXPECT_EQ(held.at("logs/tide.log").sha256, sha256_hex(as_bytes("new\n")));
  EXPECT_EQ(held.at("logs/tide.log").crc32, crc32(0, as_bytes("new\n")));
  EXPECT_REFUSAL(held.inventory.content(held.at("second")), Malformed,
                 "its data was not kept");  // it was not kept
  held.inventory.keep([](const Item& item) { return item.path == "second"; }, held.context);
  EXPECT_EQ(held.text("second"), "new\n");
}

TEST(Inventory, DecodesNothingOfWhatCanBeReadAtWill) {
  TempFolder folder;
  Held tar(folder.write("a.tar", archive()));
  EXPECT_TRUE(tar.at("second").sha256.empty());
  EXPECT_TRUE(tar.at("second").is_file());  // a second name is as good as the first
  EXPECT_EQ(tar.text("second"), "new\n");
  Held zip(folder.write("a.zip", ZipBuilder().add({.name = "x", .data = to_bytes("1"), .crc = 7}).build()));
  EXPECT_EQ(zip.at("x").crc32, 7u);  // as it is stored
}

TEST(Inventory, IsOfAFolderWithinAContainerOrOnDisk) {
  TempFolder folder;
  folder.write("disk/logs/tide.log", "x");
  std::filesystem::create_symlink("gone", folder.path("disk/link"));
  Held disk(folder.path("disk/"));
  EXPECT_EQ(disk.at("logs/tide.log").entry->size, 1u);
  EXPECT_EQ(disk.at("link").entry->link_target(), "gone");
  Held inner(folder.write("b.zip", ZipBuilder().add("a/logs/tide.log", "y").add("c", "z").build()) + "/a");
  ASSERT_EQ(inner.inventory.items.size(), 1u);
  EXPECT_EQ(inner.text("logs/tide.log"), "y");
}

TEST(Inventory, OfASingleFileIsThatFile) {
  TempFolder folder;
  Held plain(folder.write("notes.txt", "abc"));
  EXPECT_TRUE(plain.inventory.is_single());
  EXPECT_EQ(plain.text("notes.txt"), "abc");
  Held packed(folder.write("notes.gz", encode("gzip", to_bytes("abc"))));
  EXPECT_TRUE(packed.inventory.is_single());
}

TEST(Inventory, KeepsWhyBytesCannotBeHad) {
  TempFolder folder;
  Bytes bytes = encode("gzip", TarBuilder().add({.name = "a", .data = noise(1 << 20)}).build());
  bytes.resize(bytes.size() / 2);
  Held held(folder.write("a.tar.gz", ByteView(bytes)));
  EXPECT_NE(held.at("a").error, "");
  EXPECT_FALSE(held.at("a").key_needed);
  EXPECT_FALSE(held.at("a").crc32);
}

}  // namespace
}  // namespace operculum::test
