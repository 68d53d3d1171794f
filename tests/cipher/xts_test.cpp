// XTS over units of any size, both ways.
#include "cipher/xts.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "cipher/disk_cipher.h"
#include "support/sample_tree.h"
#include "support/sentence.h"

namespace operculum::test {
namespace {

Bytes through(StreamPtr (*way)(StreamPtr, ByteView, const XtsUnits&), const Bytes& bytes, const Bytes& key,
              const XtsUnits& units) {
  return read_all(*way(make_source_stream(make_memory_source(bytes)), key, units), 1 << 20);
}

TEST(Xts, WhatIsSealedOpens) {
  for (std::size_t key_size : {32u, 64u}) {
    Bytes key = noise(key_size, 3);
    for (std::size_t size : {0u, 5u, 16u, 17u, 511u, 512u, 520u, 1500u, 4096u}) {
      for (std::size_t unit : {16u, 100u, 512u, 4096u}) {
        Bytes plain = noise(size, 9);
        XtsUnits units{{0xFF, 0xFF}, unit};
        Bytes sealed = through(seal_xts, plain, key, units);
        EXPECT_EQ(sealed.size(), size);
        EXPECT_EQ(sealed == plain, size < 16) << size;
        EXPECT_EQ(through(open_xts, sealed, key, units), plain) << size << " in units of " << unit;
      }
    }
  }
}

TEST(Xts, CountsItsUnitsAsDisksDo) {
  Bytes key = noise(64, 4), plain = noise(5 * 512, 5);
  Bytes sealed = through(seal_xts, plain, key, {{0xFE, 0xFF}, 512});  // goes over into the third byte
  make_disk_cipher("aes-xts-plain64", key, 512)->decrypt(0xFFFE, sealed);
  EXPECT_EQ(sealed, plain);
}

TEST(Xts, SaysWhatDoesNotFit) {
  EXPECT_EQ(sentence([] { through(open_xts, Bytes(32), Bytes(48), {}); }),
            "a key of 48 bytes does not fit AES in XTS, which wants two of 16 or 32 bytes: 32 or 64");
  EXPECT_EQ(sentence([] {
              through(open_xts, Bytes(32), Bytes(32, 1), {{}, 15});
            }),
            "XTS with units of 15 bytes");
}

}  // namespace
}  // namespace operculum::test
