// Firmware image packages whose images are encrypted.
#include <gtest/gtest.h>

#include "base/text.h"
#include "support/byte_writer.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/seals.h"
#include "support/sentence.h"

namespace operculum::test {
namespace {

const Bytes kRuntime = *from_hex("47d4086d4cfe98469b952950cbbd5a00"),
            kLoader = *from_hex("d6d0eea7fcead54b97829934f234b6e4");

/// One image that is encrypted, and one that is not.
Bytes make_package(const Bytes& key, unsigned algorithm = 0) {
  Bytes nonce = noise(12, 4);
  GcmSealed sealed = gcm_sealed(key, nonce, noise(3000, 8));
  ByteWriter image;
  image.u32(0xAA640001).u16(algorithm).u16(1).u16(nonce.size()).u16(sealed.tag.size());
  image.bytes(nonce).zeros(4).bytes(sealed.tag).bytes(sealed.data);
  constexpr std::size_t kTable = 16 + 3 * 40;
  ByteWriter out;
  out.u32(0xAA640001).u32(0x12345678).u64(0);
  out.bytes(kRuntime).u64(kTable).u64(image.size()).u64(0);
  out.bytes(kLoader).u64(kTable + image.size()).u64(100).u64(0);
  return out.zeros(40).bytes(image.view()).bytes(noise(100, 9)).take();
}

Held with_key(const Bytes& package, const std::string& key) {
  return open_bytes(package, "board.fip", As::file, [&](OpenContext& context) {
    context.keys.add_named("firmware package", {key, "a test"});
  });
}

TEST(FirmwarePackage, EncryptedImagesOpenWithTheKeyOfTheRing) {
  Bytes key = noise(32, 3), package = make_package(key);
  Held held = with_key(package, to_hex(key));
  ASSERT_EQ(held.format(), "fip");
  EXPECT_EQ(paths_of(*held), "soc-fw nt-fw");
  EXPECT_EQ(text_at(*held, "soc-fw"), as_text(noise(3000, 8)));
  EXPECT_EQ(text_at(*held, "nt-fw"), as_text(noise(100, 9)));
  EXPECT_EQ(entry_at(*held, "soc-fw").size, 3000u);
  EXPECT_TRUE(entry_at(*held, "soc-fw").is(Entry::encrypted));
  EXPECT_FALSE(entry_at(*held, "nt-fw").is(Entry::encrypted));
}

TEST(FirmwarePackage, AWrongKeyOrNoneCostsThatImageAlone) {
  Bytes key = noise(32, 3), package = make_package(key);
  Held wrong = with_key(package, to_hex(noise(32, 4)));
  EXPECT_REFUSAL(text_at(*wrong, "soc-fw"), NeedsKey,
                 "the key \"firmware package\" does not fit; give it in keys.toml under that name, or with "
                 "--password-file or in OPERCULUM_PASSWORD");
  EXPECT_EQ(text_at(*wrong, "nt-fw"), as_text(noise(100, 9)));
  EXPECT_REFUSAL(text_at(*open_bytes(package, "board.fip"), "soc-fw"), NeedsKey,
                 "the key \"firmware package\" is needed; give it in keys.toml under that name, or with "
                 "--password-file or in OPERCULUM_PASSWORD");
  EXPECT_EQ(sentence([&] { text_at(*with_key(make_package(key, 7), to_hex(key)), "soc-fw"); }),
            "Unsupported: encryption of firmware images by algorithm 7");
  read_with_flips(package, 200, false);
}

}  // namespace
}  // namespace operculum::test
