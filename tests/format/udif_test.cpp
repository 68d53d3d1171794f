// Disk images of Apple's systems: in several segments, with their tables in a resource fork, and encrypted;
// all written here.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/numbers.h"
#include "base/text.h"
#include "support/disk_writer.h"
#include "support/encrypted_image_writer.h"
#include "support/has.h"
#include "support/open.h"
#include "support/sentence.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kTrailer = 512;

Bytes part_of(const Bytes& bytes, std::size_t at, std::size_t count) {
  return Bytes(bytes.begin() + static_cast<std::ptrdiff_t>(at),
               bytes.begin() + static_cast<std::ptrdiff_t>(at + count));
}

Bytes disk() {
  Bytes out = noise(300 << 10, 5);
  std::fill(out.begin() + (70 << 10), out.begin() + (140 << 10), Byte{0});
  return out;
}

std::uint64_t trailer_number(const Bytes& image, std::size_t at) {
  return load_number(image.data() + image.size() - kTrailer + at, 8, std::endian::big);
}

/// The data of an image in segments of that many bytes; the tables are in the first one.
Files segments(const Bytes& image, std::size_t size) {
  std::size_t data = trailer_number(image, 32);
  std::size_t count = (data + size - 1) / size;
  Bytes list = part_of(image, trailer_number(image, 216), trailer_number(image, 224));
  Files out;
  for (std::size_t i = 0; i < count; ++i) {
    std::size_t length = std::min(size, data - i * size);
    Bytes one = part_of(image, i * size, length);
    Canvas trailer(part_of(image, image.size() - kTrailer, kTrailer));
    trailer.big(16, i * size, 8);
    trailer.big(24, 0, 8);
    trailer.big(32, length, 8);
    trailer.big(56, i + 1, 4);
    trailer.big(60, count, 4);
    trailer.text(64, "the id of gauge!");
    trailer.big(216, i == 0 ? length : 0, 8);
    trailer.big(224, i == 0 ? list.size() : 0, 8);
    if (i == 0) one.insert(one.end(), list.begin(), list.end());
    Bytes end = trailer.take();
    one.insert(one.end(), end.begin(), end.end());
    out[i == 0 ? "gauge.dmg" : fmt::format("gauge.{:03}.dmgpart", i + 1)] = std::move(one);
  }
  return out;
}

TEST(Udif, SegmentsAreJoinedByAnyOfThem) {
  Files all = segments(make_udif(disk(), BlockCodec::zlib), 100'000);
  ASSERT_EQ(all.size(), 3u);
  all["other.dmg"] = make_udif(disk(), BlockCodec::stored);  // of no concern
  for (const char* name : {"gauge.dmg", "gauge.002.dmgpart", "gauge.003.dmgpart"}) {
    Held held = open_beside(name, all);
    ASSERT_EQ(held.format(), "udif") << name;
    EXPECT_TRUE(text_of(*held, 0) == as_text(disk())) << name;
    EXPECT_EQ(fact(*held, "segments"), "3 of 3");
    EXPECT_TRUE(held->findings().empty());
  }
}

TEST(Udif, AMissingSegmentIsNamedAndCostsWhatIsInIt) {
  Files all = segments(make_udif(disk(), BlockCodec::zlib), 70'000);
  all.erase("gauge.002.dmgpart");
  Held held = open_beside("gauge.dmg", all);
  EXPECT_TRUE(has_finding(*held, "segment 2 of 4 is not beside this one; put it there"));
  Bytes front = read_up_to(*held->content(0)->source(), 0, 60'000);
  EXPECT_TRUE(as_text(front) == as_text(disk()).substr(0, 60'000));
  EXPECT_TRUE(has(sentence([&] { text_of(*held, 0); }), "segment 2 of 4"));
  all.erase("gauge.003.dmgpart");
  all.erase("gauge.004.dmgpart");
  EXPECT_TRUE(has_finding(*open_beside("gauge.dmg", all), "segments 2 to 4 of 4 are not beside"));
  Files alone = {
      {"gauge.003.dmgpart", segments(make_udif(disk(), BlockCodec::zlib), 70'000)["gauge.003.dmgpart"]}};
  EXPECT_TRUE(
      has(sentence([&] { open_beside("gauge.003.dmgpart", alone); }), "may be in a segment that is missing"));
}

/// The tables of an image moved into a resource fork.
Bytes with_resource_fork(const Bytes& image) {
  std::string list(as_text(part_of(image, trailer_number(image, 216), trailer_number(image, 224))));
  std::size_t begin = list.find("<data>") + 6;
  Bytes table = from_base64(list.substr(begin, list.find("</data>") - begin));
  constexpr std::size_t kDataAt = 256;
  ByteWriter fork;
  std::size_t map_at = kDataAt + 4 + table.size();
  std::string name = "whole disk";
  fork.u32be(kDataAt).u32be(map_at).u32be(4 + table.size()).u32be(60).zeros(kDataAt - 16);
  fork.u32be(table.size()).bytes(table);
  fork.zeros(24).u16be(28).u16be(28 + 18 + 24);   // the map: types, names
  fork.u16be(1).text("abcd").u16be(0).u16be(18);  // two types
  fork.text("blkx").u16be(0).u16be(30);
  fork.u16be(1).u16be(0xFFFF).u32be(0).u32be(0);            // another type's
  fork.u16be(0).u16be(0).u8(0x50).u8(0).u16be(0).u32be(0);  // ours, at the begin of the data
  fork.u8(name.size()).text(name);
  std::size_t data = trailer_number(image, 32);
  Bytes out = part_of(image, 0, data), end = part_of(image, image.size() - kTrailer, kTrailer);
  Bytes bytes = fork.take();
  Canvas trailer(end);
  trailer.big(40, data, 8);
  trailer.big(48, bytes.size(), 8);
  trailer.big(216, 0, 8);
  trailer.big(224, 0, 8);
  end = trailer.take();
  out.insert(out.end(), bytes.begin(), bytes.end());
  out.insert(out.end(), end.begin(), end.end());
  return out;
}

TEST(Udif, TablesInAResourceFork) {
  Bytes image = with_resource_fork(make_udif(disk(), BlockCodec::zlib));
  Held held = open_bytes(image, "gauge.dmg");
  EXPECT_TRUE(text_of(*held, 0) == as_text(disk()));
  EXPECT_EQ(fact(*held, "part"), "whole disk");
  std::size_t data = trailer_number(image, 40);
  for (std::size_t at = data; at < image.size() - kTrailer; at += 3) {
    Bytes wrong = image;
    wrong[at] ^= 0xFF;
    sentence([&] { text_of(*open_bytes(wrong, "gauge.dmg"), 0); });  // no crash, whatever it says
  }
  EXPECT_TRUE(has(sentence([&] {
                    Bytes wrong = image;
                    wrong[data + 4] = 0x7F;  // the map lies beyond
                    open_bytes(wrong, "gauge.dmg");
                  }),
                  "UDIF resource fork: expected"));
}

auto with_key(std::string secret) {
  return [secret = std::move(secret)](OpenContext& context) { context.keys.add({secret, "the test"}); };
}

TEST(EncryptedImage, GivesWhatIsInIt) {
  Bytes inner = make_udif(disk(), BlockCodec::zlib);
  for (const Sealing& how : {Sealing{}, Sealing{.key_size = 32}, Sealing{.block = 4096}}) {
    Held held = open_bytes(sealed(how, inner), "gauge.dmg", As::file, with_key(how.passphrase));
    ASSERT_EQ(held.format(), "encrypted-image");
    EXPECT_TRUE(text_of(*held, 0) == as_text(inner)) << how.key_size << " " << how.block;
    EXPECT_EQ(fact(*held, "cipher"), fmt::format("AES in CBC mode, {} bits", how.key_size * 8));
  }
}

TEST(EncryptedImage, AWrongPassphraseIsToldAndWhatIsLackingNamed) {
  Held wrong = open_bytes(sealed({}, disk()), "gauge.dmg", As::file, with_key("fresh"));
  EXPECT_TRUE(has(sentence([&] { text_of(*wrong, 0); }), "wrong password (1 tried)"));
  Held other = open_bytes(sealed({.key_type = 2}, disk()), "gauge.dmg", As::file, with_key("brackish"));
  EXPECT_TRUE(has(sentence([&] { text_of(*other, 0); }), "encrypted images that no passphrase opens"));
  EXPECT_TRUE(has(sentence([&] { open_bytes(sealed({.version = 3}, disk()), "gauge.dmg"); }),
                  "encrypted images of version 3"));
  EXPECT_TRUE(has(sentence([&] { open_bytes(sealed({.block = 777}, disk()), "gauge.dmg"); }),
                  "blockSize (at 52) to be a multiple of 512, found 777"));
  Bytes old = disk();
  for (char c : std::string("cdsaencr")) old.push_back(static_cast<Byte>(c));
  EXPECT_TRUE(has(sentence([&] { open_bytes(old, "gauge.dmg"); }), "encrypted images of version 1"));
}

TEST(EncryptedImage, EveryPrefixOfTheHeadEndsInASentence) {
  Bytes image = sealed({}, noise(512, 1));
  for (std::size_t size = 8; size < 500; ++size) {
    std::string said = sentence([&] {
      Held held = open_bytes(part_of(image, 0, size), "cut.dmg", As::file, with_key("brackish"));
      text_of(*held, 0);
    });
    EXPECT_FALSE(said.empty()) << size;
  }
}

TEST(EncryptedImage, SparseBundles) {
  constexpr std::size_t kBand = 8192;
  Sealing how;
  Bytes data = noise(3 * kBand, 7), stored = data;
  seal(how, stored);
  std::string list = fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">\n<dict>\n"
      "<key>bundle-backingstore-version</key><integer>1</integer>\n"
      "<key>diskimage-bundle-type</key><string>com.apple.diskimage.sparsebundle</string>\n"
      "<key>band-size</key><integer>{}</integer>\n<key>size</key><integer>{}</integer>\n</dict>\n</plist>\n",
      kBand, data.size());
  Files files = {{"Info.plist", to_bytes(list)}, {"token", sealed_head(how, data.size(), 1024)}};
  for (std::size_t i = 0; i < 3; ++i) files[fmt::format("bands/{}", i)] = part_of(stored, i * kBand, kBand);
  Held locked = open_beside("Info.plist", files);
  EXPECT_EQ(fact(*locked, "cipher"), "AES in CBC mode, 128 bits");
  EXPECT_TRUE(has(sentence([&] { text_of(*locked, 0); }), "a password is needed"));
  locked.context->keys.add({how.passphrase, "the test"});
  EXPECT_TRUE(text_of(*locked, 0) == as_text(data));
}

}  // namespace
}  // namespace operculum
