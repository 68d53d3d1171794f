#include "support/bitlocker_writer.h"

#include <openssl/evp.h>
#include <openssl/sha.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>
#include <map>

#include "base/checksum.h"
#include "base/text.h"

namespace operculum::test {
namespace {

void put(Bytes& out, std::uint64_t value, std::size_t width) {
  for (std::size_t i = 0; i < width; ++i) out.push_back(static_cast<Byte>(value >> (8 * i)));
}
void put(Bytes& out, const Bytes& bytes) {
  out.insert(out.end(), bytes.begin(), bytes.end());
}
void over(Bytes& out, std::size_t at, const Bytes& bytes) {
  std::copy(bytes.begin(), bytes.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}

Bytes key_of(char letter, std::size_t size) {
  Bytes out(size);
  for (std::size_t i = 0; i < size; ++i) out[i] = static_cast<Byte>(letter + 7 * i);
  return out;
}

Bytes entry(unsigned type, unsigned value_type, const Bytes& value) {
  Bytes out;
  put(out, 8 + value.size(), 2);
  put(out, type, 2);
  put(out, value_type, 2);
  put(out, 1, 2);
  put(out, value);
  return out;
}

Bytes guid(Byte number) {
  Bytes out(16, number);
  out[0] = 0x3E;
  return out;
}

/// A key behind what stands in front of it, sealed with AES-CCM.
Bytes sealed(const Bytes& key, const Bytes& with, Byte nonce_byte) {
  Bytes plain;
  put(plain, 12 + key.size(), 4);
  put(plain, 1, 4);
  put(plain, 0x2003, 4);
  put(plain, key);
  Bytes nonce(12, nonce_byte), tag(16), out(plain.size());
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  int length = 0;
  EVP_EncryptInit_ex(context, EVP_aes_256_ccm(), nullptr, nullptr, nullptr);
  EVP_CIPHER_CTX_ctrl(context, EVP_CTRL_AEAD_SET_IVLEN, 12, nullptr);
  EVP_CIPHER_CTX_ctrl(context, EVP_CTRL_AEAD_SET_TAG, 16, nullptr);
  EVP_EncryptInit_ex(context, nullptr, nullptr, with.data(), nonce.data());
  EVP_EncryptUpdate(context, out.data(), &length, plain.data(), static_cast<int>(plain.size()));
  EVP_CIPHER_CTX_ctrl(context, EVP_CTRL_AEAD_GET_TAG, 16, tag.data());
  EVP_CIPHER_CTX_free(context);
  Bytes all = nonce;
  put(all, tag);
  put(all, out);
  return all;
}

Bytes sha256(const Bytes& bytes) {
  Bytes out(32);
  SHA256(bytes.data(), bytes.size(), out.data());
  return out;
}

/// Takes a second: what was made once is kept.
const Bytes& stretched(const Bytes& first, const Bytes& salt) {
  static std::map<std::pair<Bytes, Bytes>, Bytes> made;
  auto [known, is_new] = made.try_emplace({first, salt});
  if (!is_new) return known->second;
  Bytes block(32);
  put(block, first);
  put(block, salt);
  put(block, 0, 8);
  for (std::uint64_t round = 0; round < 0x100000; ++round) {
    std::memcpy(block.data() + 80, &round, 8);
    SHA256(block.data(), block.size(), block.data());
  }
  block.resize(32);
  return known->second = block;
}

Bytes protector(Byte number, std::uint16_t type, const Bytes& entries) {
  Bytes value = guid(number);
  put(value, 131'000'000'000'000'000, 8);
  put(value, 0, 2);
  put(value, type, 2);
  put(value, entries);
  return entry(2, 8, value);
}

Bytes by_words(Byte number, std::uint16_t type, const Bytes& first, const Bytes& master) {
  Bytes salt(16, number), stretch;
  put(stretch, 0x1000, 4);
  put(stretch, salt);
  Bytes key = stretched(first, salt);
  put(stretch, entry(0, 5, sealed(key_of('s', 32), master, 40)));
  Bytes entries = entry(0, 3, stretch);
  put(entries, entry(0, 5, sealed(master, key, number)));
  return protector(number, type, entries);
}

Bytes utf16(const std::string& text) {
  std::string wide = *from_utf8(text, "UTF-16LE");
  return Bytes(wide.begin(), wide.end());
}

Bytes recovery_numbers(const std::string& text) {
  Bytes out;
  for (std::size_t i = 0; i < 8; ++i) put(out, std::stoul(text.substr(i * 7, 6)) / 11, 2);
  return out;
}

Bytes file_key() {
  return key_of('f', 32);
}

struct Keys {
  Bytes first, second;
};

Keys volume_keys(std::uint16_t method) {
  std::size_t size = method == 0x8005 ? 64 : method == 0x8004 || (method & 1) != 0 ? 32 : 16;
  return {key_of('v', size), key_of('t', (method & 1) != 0 ? 32 : 16)};
}

Bytes metadata_block(const BitLockerVolume& how) {
  Bytes master = key_of('m', 32), entries = entry(7, 2, utf16(std::string("TIDE-DESK D: 3/4/2021\0", 22)));
  if (!how.password.empty()) put(entries, by_words(1, 0x2000, sha256(sha256(utf16(how.password))), master));
  if (!how.recovery.empty())
    put(entries, by_words(2, 0x0800, sha256(recovery_numbers(how.recovery)), master));
  if (how.key_file) put(entries, protector(3, 0x0200, entry(0, 5, sealed(master, file_key(), 3))));
  if (how.clear_key) {
    Bytes key = key_of('c', 32), value;
    put(value, 0x2000, 4);
    put(value, key);
    Bytes parts = entry(0, 1, value);
    put(parts, entry(0, 5, sealed(master, key, 4)));
    put(entries, protector(4, 0, parts));
  }
  if (how.chip) put(entries, protector(5, 0x0100, entry(0, 6, Bytes(100, 9))));
  Keys keys = volume_keys(how.method);
  Bytes own = keys.first;
  if (how.short_key) own.resize(own.size() / 2);
  if (how.method < 0x8002) {
    own.resize(32);
    put(own, keys.second);
    own.resize(64);
  }
  put(entries, entry(3, 5, sealed(own, master, 6)));
  Bytes place;
  put(place, kBitLockerHeadAt + how.head_moved, 8);
  put(place, kBitLockerHeadSize, 8);
  if (!how.first_version) put(entries, entry(15, 15, place));
  Bytes out;
  for (char c : std::string("-FVE-FS-")) out.push_back(static_cast<Byte>(c));
  std::size_t size = (112 + entries.size() + 15) / 16 * 16;
  put(out, how.first_version ? size : size / 16, 2);
  put(out, how.first_version ? 1 : 2, 2);
  put(out, how.state, 2);
  put(out, how.state, 2);
  put(out, std::min(how.encrypted, kBitLockerSize), 8);
  put(out, 0, 4);
  put(out, kBitLockerHeadSize / how.sector, 4);
  for (std::uint64_t at : kBitLockerMetadataAt) put(out, at, 8);
  put(out, how.first_version ? 77 : kBitLockerHeadAt + how.head_moved, 8);
  put(out, 48 + entries.size(), 4);
  put(out, 1, 4);
  put(out, 48, 4);
  put(out, 48 + entries.size(), 4);
  put(out, guid(9));
  put(out, 10, 4);
  put(out, how.method, 4);
  put(out, 131'000'000'000'000'000, 8);
  put(out, entries);
  out.resize(size);
  std::uint32_t sum = crc32(0, out);
  put(out, 100, 2);
  put(out, 1, 2);
  put(out, sum, 4);
  return out;
}

void elephant(ByteSpan sector) {
  std::size_t n = sector.size() / 4;
  std::vector<std::uint32_t> d(n);
  std::memcpy(d.data(), sector.data(), sector.size());
  constexpr int ra[] = {9, 0, 13, 0}, rb[] = {0, 10, 0, 25};
  for (std::size_t i = 5 * n; i-- > 0;) {
    std::size_t k = i % n;
    d[k] -= d[(k + n - 2) % n] ^ std::rotl(d[(k + n - 5) % n], ra[k % 4]);
  }
  for (std::size_t i = 3 * n; i-- > 0;) {
    std::size_t k = i % n;
    d[k] -= d[(k + 2) % n] ^ std::rotl(d[(k + 5) % n], rb[k % 4]);
  }
  std::memcpy(sector.data(), d.data(), sector.size());
}

void run(const EVP_CIPHER* cipher, const Bytes& key, const Byte* vector, ByteSpan bytes) {
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  int length = 0;
  EVP_EncryptInit_ex(context, cipher, nullptr, key.data(), vector);
  EVP_CIPHER_CTX_set_padding(context, 0);
  EVP_EncryptUpdate(context, bytes.data(), &length, bytes.data(), static_cast<int>(bytes.size()));
  EVP_CIPHER_CTX_free(context);
}

/// A sector that lies at `at` in the file.
void encrypt(const BitLockerVolume& how, std::uint64_t at, ByteSpan sector) {
  Keys keys = volume_keys(how.method);
  std::array<Byte, 32> number{};
  bool large = (how.method & 1) != 0;
  if (how.method >= 0x8004) {
    std::uint64_t count = at / how.sector;
    std::memcpy(number.data(), &count, 8);
    return run(large ? EVP_aes_256_xts() : EVP_aes_128_xts(), keys.first, number.data(), sector);
  }
  const EVP_CIPHER* single = large ? EVP_aes_256_ecb() : EVP_aes_128_ecb();
  std::memcpy(number.data(), &at, 8);
  if (how.method < 0x8002) {
    std::array<Byte, 32> own = number;
    std::memcpy(own.data() + 16, &at, 8);
    own[31] = 0x80;
    run(single, keys.second, nullptr, own);
    for (std::size_t i = 0; i < sector.size(); ++i) sector[i] ^= own[i % 32];
    elephant(sector);
  }
  run(single, keys.first, nullptr, ByteSpan(number).first(16));
  run(large ? EVP_aes_256_cbc() : EVP_aes_128_cbc(), keys.first, number.data(), sector);
}

Bytes boot_sector(const BitLockerVolume& how, const Bytes& content) {
  Bytes out(512);
  if (how.first_version) out.assign(content.begin(), content.begin() + 512);
  Bytes mark;
  for (char c : std::string(how.to_go ? "MSWIN4.1" : "-FVE-FS-")) mark.push_back(static_cast<Byte>(c));
  out[0] = 0xEB;
  out[1] = how.first_version ? 0x52 : 0x58;
  over(out, 3, mark);
  Bytes sector;
  put(sector, how.sector, 2);
  put(sector, 8, 1);
  over(out, 11, sector);
  Bytes places;
  if (how.first_version) {
    put(places, kBitLockerMetadataAt[0] / how.sector / 8, 8);
    over(out, 56, places);
    return out;
  }
  places = *from_hex(how.encrypted_on_write ? "3b4da89280dd0e4d9e4eb1e3284eaed8"
                                            : "3bd66749292ed84a8399f6a339e3d001");
  for (std::uint64_t at : kBitLockerMetadataAt) put(places, at, 8);
  over(out, how.to_go ? 424 : 160, places);
  return out;
}

}  // namespace

Bytes write_bitlocker(const BitLockerVolume& how, Bytes content) {
  Bytes out = content;
  std::uint64_t plain_head = how.first_version ? 16 * how.sector : 0;
  if (!how.first_version) std::copy_n(content.begin(), kBitLockerHeadSize, out.begin() + kBitLockerHeadAt);
  constexpr std::uint16_t kLastMethod = 0x8005;
  for (std::uint64_t at = plain_head;
       how.method <= kLastMethod && at < std::min(how.encrypted, kBitLockerSize); at += how.sector)
    encrypt(how, at, ByteSpan(out).subspan(at, how.sector));
  Bytes block = metadata_block(how);
  for (std::uint64_t at : kBitLockerMetadataAt) over(out, at, block);
  over(out, 0, boot_sector(how, content));
  return out;
}

std::string bitlocker_key_file() {
  Bytes name = utf16(std::string("ExternalKey\0", 12)), value;
  put(value, 0x2002, 4);
  put(value, file_key());
  Bytes key = guid(3);
  put(key, 131'000'000'000'000'000, 8);
  put(key, entry(0, 2, name));
  put(key, entry(0, 1, value));
  Bytes entries = entry(6, 9, key), out;
  put(out, 48 + entries.size(), 4);
  put(out, 1, 4);
  put(out, 48, 4);
  put(out, 48 + entries.size(), 4);
  put(out, guid(3));
  put(out, 1, 4);
  put(out, 0, 4);
  put(out, 131'000'000'000'000'000, 8);
  put(out, entries);
  return std::string(as_text(out));
}

Bytes bitlocker_view(const BitLockerVolume& how, Bytes content) {
  std::uint64_t size = how.first_version ? 0x4000 : 0x10000;
  for (std::uint64_t at : kBitLockerMetadataAt)
    std::fill_n(content.begin() + static_cast<std::ptrdiff_t>(at), size, Byte{0});
  if (!how.first_version) std::fill_n(content.begin() + kBitLockerHeadAt, kBitLockerHeadSize, Byte{0});
  return content;
}

}  // namespace operculum::test
