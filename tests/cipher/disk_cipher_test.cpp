// Sectors of disks, encrypted here by OpenSSL's own calls.
#include "cipher/disk_cipher.h"

#include <gtest/gtest.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>

#include "base/error.h"
#include "cipher/sealed_sectors.h"
#include "support/has.h"
#include "support/sample_tree.h"
#include "support/sentence.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kSector = 512;

Bytes encrypted(const EVP_CIPHER* cipher, ByteView key, ByteView vector, Bytes plain) {
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  int length = 0;
  EVP_EncryptInit_ex(context, cipher, nullptr, key.data(), vector.data());
  EVP_CIPHER_CTX_set_padding(context, 0);
  EVP_EncryptUpdate(context, plain.data(), &length, plain.data(), static_cast<int>(plain.size()));
  EVP_CIPHER_CTX_free(context);
  return plain;
}

Bytes number_as_vector(std::uint64_t number) {
  Bytes vector(16);
  for (std::size_t i = 0; i < 8; ++i) vector[i] = static_cast<Byte>(number >> (8 * i));
  return vector;
}

/// A disk encrypted sector by sector, the first of them with number `first`.
Bytes encrypted_disk(const Bytes& plain, ByteView key, std::uint64_t first) {
  Bytes out;
  for (std::size_t at = 0; at < plain.size(); at += kSector) {
    Bytes sector(plain.begin() + static_cast<std::ptrdiff_t>(at),
                 plain.begin() + static_cast<std::ptrdiff_t>(at + kSector));
    Bytes sealed = encrypted(EVP_aes_256_xts(), key, number_as_vector(first + at / kSector), sector);
    out.insert(out.end(), sealed.begin(), sealed.end());
  }
  return out;
}

TEST(DiskCipher, DecryptsSectorsByTheirNumber) {
  Bytes key = noise(64), plain = noise(8 * kSector);
  Bytes disk = encrypted_disk(plain, key, 100);
  auto cipher = make_disk_cipher("aes-xts-plain64", key, kSector);
  cipher->decrypt(100, disk);
  EXPECT_EQ(disk, plain);
  Bytes wrong = encrypted_disk(plain, key, 100);
  cipher->decrypt(101, wrong);
  EXPECT_NE(wrong, plain);
}

TEST(DiskCipher, LargeReadsOnSeveralThreadsAreTheSame) {
  Bytes key = noise(64), plain = noise(1 << 20);
  Bytes stored = Bytes(700, '_'), disk = encrypted_disk(plain, key, 7);
  stored.insert(stored.end(), disk.begin(), disk.end());
  SourcePtr source = make_decrypted(make_memory_source(stored), 700, plain.size(),
                                    make_disk_cipher("aes-xts-plain64", key, kSector), kSector, 7);
  EXPECT_EQ(read_up_to(*source, 0, plain.size()), plain);
  for (auto [at, count] : {std::pair<std::size_t, std::size_t>{1, 999'999},
                           {65'536, 131'072},
                           {65'000, 66'000},
                           {1'048'575, 1},
                           {513, 0}}) {
    Bytes part = read_up_to(*source, at, count);
    EXPECT_EQ(part, Bytes(plain.begin() + static_cast<std::ptrdiff_t>(at),
                          plain.begin() + static_cast<std::ptrdiff_t>(at + count)))
        << at;
  }
}

TEST(DiskCipher, CutDisksSaySo) {
  SourcePtr source = make_decrypted(make_memory_source(Bytes(5 * kSector)), 0, 9 * kSector,
                                    make_disk_cipher("aes-xts-plain64", Bytes(64, 1), kSector), kSector, 0);
  EXPECT_EQ(read_up_to(*source, 0, kSector).size(), kSector);
  try {
    read_up_to(*source, 4 * kSector, 2 * kSector);
    FAIL() << "what is not there was read";
  } catch (const CutShort& error) {
    EXPECT_STREQ(error.what(), "the encrypted disk is cut short");
  }
}

TEST(DiskCipher, ModesAndVectorsAreThoseOfTheirNames) {
  Bytes key = noise(32), plain = noise(kSector);
  auto decrypted = [&](const std::string& name, std::uint64_t number, Bytes sector) {
    make_disk_cipher(name, key, kSector)->decrypt(number, sector);
    return sector;
  };
  EXPECT_EQ(decrypted("aes-cbc-plain64", 5, encrypted(EVP_aes_256_cbc(), key, number_as_vector(5), plain)),
            plain);
  EXPECT_EQ(decrypted("aes-cbc-plain", 0x1'0000'0005,
                      encrypted(EVP_aes_256_cbc(), key, number_as_vector(5), plain)),
            plain)
      << "32 bits of the number";
  EXPECT_EQ(decrypted("aes-plain", 5, encrypted(EVP_aes_256_cbc(), key, number_as_vector(5), plain)), plain)
      << "as old headers have it";
  EXPECT_EQ(decrypted("aes-cbc-null", 5, encrypted(EVP_aes_256_cbc(), key, Bytes(16), plain)), plain);
  EXPECT_EQ(decrypted("aes-ecb", 5, encrypted(EVP_aes_256_ecb(), key, Bytes(16), plain)), plain);
  Bytes big(16);
  big[15] = 5;
  EXPECT_EQ(decrypted("aes-cbc-plain64be", 5, encrypted(EVP_aes_256_cbc(), key, big, plain)), plain);
  EXPECT_EQ(
      decrypted("aes-cbc-plain64:4096", 16, encrypted(EVP_aes_256_cbc(), key, number_as_vector(2), plain)),
      plain)
      << "sectors of 4096 bytes are counted";
  Bytes hash(32), essiv = number_as_vector(9);
  unsigned length = 0;
  EVP_Digest(key.data(), key.size(), hash.data(), &length, EVP_sha256(), nullptr);
  essiv = encrypted(EVP_aes_256_ecb(), hash, Bytes(16), essiv);
  EXPECT_EQ(decrypted("aes-cbc-essiv:sha256", 9, encrypted(EVP_aes_256_cbc(), key, essiv, plain)), plain);
  Bytes eboiv = encrypted(EVP_aes_256_ecb(), key, Bytes(16), number_as_vector(9 * kSector));
  EXPECT_EQ(decrypted("aes-cbc-eboiv", 9, encrypted(EVP_aes_256_cbc(), key, eboiv, plain)), plain);
}

TEST(DiskCipher, TellsWhatItDoesNotKnow) {
  auto said = [](const std::string& name, std::size_t key, std::size_t sector = kSector) {
    return sentence([&] { make_disk_cipher(name, Bytes(key, 1), sector); });
  };
  EXPECT_EQ(said("aes-xts-tidal", 64), "Unsupported: initialisation vectors of kind \"tidal\"");
  EXPECT_EQ(said("aes-cbc-essiv", 32), "ESSIV without a hash");
  EXPECT_EQ(said("aes-cbc-plain64:700", 32), "sectors are counted in multiples of 512 bytes");
  EXPECT_EQ(said("aes-xts-plain64", 40), "Unsupported: the cipher aes-xts-plain64 with keys of 320 bits");
  EXPECT_EQ(said("aes-xts-plain64", 64, 500),
            "Unsupported: the cipher aes-xts-plain64 with keys of 512 bits");
  EXPECT_EQ(said("crab-cbc-plain64", 32), "Unsupported: the cipher crab-cbc-plain64 with keys of 256 bits");
  EXPECT_TRUE(has(said("crab-cbc-eboiv", 32), "initialisation vectors by crab with keys of 32 bytes"));
}

// ---- sectors with tags

struct Sealed {
  Bytes key = noise(64 + 32), plain = noise(kSector), sector, tag;

  explicit Sealed(std::uint64_t number) {
    ByteView all(key);
    Bytes vector = number_as_vector(number);
    sector = encrypted(EVP_aes_256_xts(), all.first(64), vector, plain);
    Bytes summed(vector.begin(), vector.begin() + 8);
    summed.insert(summed.end(), vector.begin(), vector.end());
    summed.insert(summed.end(), sector.begin(), sector.end());
    tag.resize(32);
    HMAC(EVP_sha256(), all.last(32).data(), 32, summed.data(), summed.size(), tag.data(), nullptr);
  }
};

TEST(SealedSectors, OpenWhatTheirTagFits) {
  Sealed made(12);
  auto sectors = make_sealed_sectors("aes-xts-plain64", "hmac(sha256)", made.key);
  EXPECT_EQ(sectors->tag_size(), 32u);
  Bytes sector = made.sector;
  EXPECT_TRUE(sectors->open(12, made.tag, sector));
  EXPECT_EQ(sector, made.plain);
  for (std::size_t at : {0u, 511u}) {
    Bytes damaged = made.sector;
    damaged[at] ^= 1;
    EXPECT_FALSE(sectors->open(12, made.tag, damaged)) << at;
  }
  Bytes moved = made.sector;
  EXPECT_FALSE(sectors->open(13, made.tag, moved)) << "another place";
  Bytes tag = made.tag, same = made.sector;
  tag[31] ^= 1;
  EXPECT_FALSE(sectors->open(12, tag, same));
}

TEST(SealedSectors, TellWhatTheyDoNotKnow) {
  auto said = [](const std::string& cipher, const std::string& integrity, std::size_t key) {
    return sentence([&] { make_sealed_sectors(cipher, integrity, Bytes(key, 1)); });
  };
  EXPECT_EQ(said("aes-xts-plain64", "hmac(sha256)", 96), "");
  EXPECT_EQ(said("aes-xts-random", "hmac(sha256)", 96), "");
  EXPECT_EQ(said("aes-xts-plain64", "hmac(sha256)", 20),
            "Unsupported: the cipher aes-xts-plain64 with integrity hmac(sha256) and keys of 160 bits");
  EXPECT_TRUE(has(said("aes-xts-plain64", "hmac(sha256)", 90), "Unsupported")) << "no cipher has such a key";
  EXPECT_TRUE(has(said("aes-xts-plain64", "hmac(tide)", 96), "Unsupported"));
  EXPECT_TRUE(has(said("aes-xts-essiv", "hmac(sha256)", 96), "Unsupported"));
  EXPECT_TRUE(has(said("aes-gcm-random", "aead", 24), "Unsupported"));
  EXPECT_EQ(said("aes-gcm-random", "aead", 32), "");
  EXPECT_EQ(said("chacha20-random", "poly1305", 32), "");
}

}  // namespace
}  // namespace operculum
