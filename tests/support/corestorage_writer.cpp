#include "support/corestorage_writer.h"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <openssl/sha.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/numbers.h"
#include "base/text.h"
#include "support/block_packer.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

constexpr std::size_t kBlock = kCoreBlock, kMetadata = 8192, kSize = kCoreSize, kLabelAt = kCoreLabelAt,
                      kEncryptedAt = kCoreMetadataAt, kMetadataBlocks = 8, kFileSize = 160 * kBlock;

void put(Bytes& over, std::size_t at, ByteView bytes) {
  std::copy(bytes.begin(), bytes.end(), over.begin() + static_cast<std::ptrdiff_t>(at));
}

void xts(ByteView key, std::uint64_t number, ByteSpan unit) {
  Bytes vector(16);
  store_number(vector.data(), 8, number);
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  int length = 0;
  EVP_EncryptInit_ex(context, EVP_aes_128_xts(), nullptr, key.data(), vector.data());
  EVP_EncryptUpdate(context, unit.data(), &length, unit.data(), static_cast<int>(unit.size()));
  EVP_CIPHER_CTX_free(context);
}

/// RFC 3394.
Bytes wrapped(ByteView key, ByteView with) {
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  EVP_CIPHER_CTX_set_flags(context, EVP_CIPHER_CTX_FLAG_WRAP_ALLOW);
  Bytes out(key.size() + 8);
  int length = 0;
  EVP_EncryptInit_ex(context, EVP_aes_128_wrap(), nullptr, with.data(), nullptr);
  EVP_EncryptUpdate(context, out.data(), &length, key.data(), static_cast<int>(key.size()));
  EVP_CIPHER_CTX_free(context);
  return out;
}

std::string base64(const Bytes& bytes) {
  std::string out(4 * ((bytes.size() + 2) / 3) + 1, '\0');
  out.resize(static_cast<std::size_t>(EVP_EncodeBlock(reinterpret_cast<unsigned char*>(out.data()),
                                                      bytes.data(), static_cast<int>(bytes.size()))));
  return out;
}

void sum(Bytes& block) {
  store_number(block.data(), 4, crc32c(0xFFFFFFFF, ByteView(block).subspan(8)));
}

Bytes metadata_block(unsigned type) {
  Bytes out(kMetadata);
  store_number(out.data() + 4, 4, 0xFFFFFFFF);
  store_number(out.data() + 8, 2, 1);
  store_number(out.data() + 10, 2, type);
  return out;
}

Bytes list_block(unsigned type, std::size_t head_at, const std::string& list, bool packed) {
  Bytes out = metadata_block(type), stored(list.begin(), list.end());
  if (packed) stored = pack_block(BlockCodec::zlib, as_bytes(list));
  constexpr std::size_t kAt = 0x3B0;
  store_number(out.data() + head_at, 4, stored.size());
  store_number(out.data() + head_at + 4, 4, list.size());
  store_number(out.data() + head_at + 8, 4, kAt);
  store_number(out.data() + head_at + 12, 4, stored.size());
  put(out, kAt, stored);
  sum(out);
  return out;
}

std::string family_list(const CoreStorageVolume& form) {
  Bytes salt = noise(16, 1), wrapping = noise(16, 2), volume = noise(16, 3), derived(16);
  PKCS5_PBKDF2_HMAC(kCorePassphrase, 9, salt.data(), 16, 1000, EVP_sha256(), 16, derived.data());
  Bytes user =
      ByteWriter().u32(3).u32(16).bytes(salt).u32(16).u32(24).bytes(wrapped(wrapping, derived)).take();
  user.resize(168);
  user = ByteWriter().bytes(user).u32(1000).zeros(112).take();
  Bytes key = ByteWriter().u32(2).u32(24).bytes(wrapped(volume, wrapping)).zeros(224).take();
  if (form.damaged_key) key[12] ^= 1;
  std::string own = form.encrypted
                        ? fmt::format(
                              "<dict ID=\"19\"><key>BlockAlgorithm</key><string ID=\"21\">AES-XTS"
                              "</string><key>KEKWrappedVolumeKeyStruct</key><data>{}</data></dict>",
                              base64(key))
                        : "";
  return fmt::format(
             "<dict ID=\"0\"><key>com.apple.corestorage.lvf.encryption.context</key><dict "
             "ID=\"1\"><key>CryptoUsers</key>"
             "<array><dict><key>PassphraseWrappedKEKStruct</key><data>{}</data><key>UserIdent</key><string "
             "ID=\"5\">keeper"
             "</string></dict></array><key>WrappedVolumeKeys</key><array><dict><key>BlockAlgorithm</"
             "key><string>None"
             "</string><key>KEKWrappedVolumeKeyStruct</key><data></data></dict>{}</"
             "array><key>ConversionInfo</"
             "key><dict>"
             "<key>ConversionStatus</key><string>{}</string></dict></"
             "dict><key>com.apple.corestorage.lvf.uuid</key>"
             "<string ID=\"28\">{}</string></dict>",
             base64(user), own, form.status, form.family) +
         form.after_list;
}

std::string volume_list(const CoreStorageVolume& form, const std::string& id, const std::string& name) {
  return fmt::format(
      "<dict ID=\"0\"><key>com.apple.corestorage.lv.familyUUID</key><string ID=\"2\">{}</string><key>"
      "com.apple.corestorage.lv.name</key><reference "
      "IDREF=\"9\"/><key>com.apple.corestorage.lv.uuid</key><string>{}"
      "</string><key>com.apple.corestorage.lv.size</key><integer size=\"64\">{:#x}</integer><key>other</key>"
      "<string ID=\"9\">{}</string></dict>",
      form.family, id, form.size, name);
}

struct Place {
  std::uint64_t blocks, logical, physical;
};

Bytes places_block(const std::vector<Place>& places, std::size_t more) {
  Bytes out = metadata_block(0x305);
  store_number(out.data() + 64, 4, places.size() + more);
  for (std::size_t i = 0; i < places.size(); ++i) {
    Byte* one = out.data() + 72 + i * 40;
    store_number(one + 16, 4, places[i].blocks);
    store_number(one + 20, 4, 0x400000);
    store_number(one + 24, 8, places[i].logical);
    store_number(one + 32, 8, places[i].physical);
  }
  sum(out);
  return out;
}

}  // namespace

Bytes corestorage_content() {
  Bytes out;
  for (std::size_t i = 0; out.size() < kSize; ++i) {
    std::string one = fmt::format("page {:06} of the log\n", i);
    out.insert(out.end(), one.begin(), one.end());
  }
  out.resize(kSize);
  return out;
}

Bytes make_corestorage(const CoreStorageVolume& form) {
  Bytes out(kFileSize), key = noise(16, 4), id = noise(16, 5), both = key;
  both.insert(both.end(), id.begin(), id.end());
  // the volume: in two runs the second half lies first
  std::vector<Place> places = {{64, 0, 64}};
  if (form.two_runs) places = {{32, 32, 64}, {32, 0, 120}};
  Bytes data = corestorage_content();
  if (form.encrypted) {
    Bytes own = noise(16, 3), digest(32), family = *from_hex("5a17a0001c0f4d3e9a517dfe00c0ffee"), tweak = own;
    tweak.insert(tweak.end(), family.begin(), family.end());
    SHA256(tweak.data(), tweak.size(), digest.data());
    own.insert(own.end(), digest.begin(), digest.begin() + 16);
    for (std::size_t at = 0; at < data.size(); at += 512) xts(own, at / 512, ByteSpan(data).subspan(at, 512));
  }
  for (const Place& one : places)
    put(out, one.physical * kBlock, ByteView(data).subspan(one.logical * kBlock, one.blocks * kBlock));
  places[0].logical += form.first_block;
  std::vector<Bytes> blocks = {
      places_block(places, form.more_places), list_block(0x19, 104, family_list(form), form.packed_list),
      list_block(0x1A, 120, volume_list(form, "A1", "old name"), form.packed_list),
      list_block(0x1A, 120, volume_list(form, form.two_volumes ? "B2" : "A1", "tide log"), false)};
  for (std::size_t i = 0; i < blocks.size(); ++i) {
    xts(both, i, blocks[i]);
    put(out, kEncryptedAt + i * kMetadata, blocks[i]);
  }
  Bytes label = metadata_block(0x11);
  store_number(label.data() + 220, 4, 0x2000);
  sum(label);
  put(out, kLabelAt, label);
  put(out, kLabelAt + 0x2000,
      ByteWriter().u64(0).u64(kMetadataBlocks).zeros(16).u64(kEncryptedAt / kBlock).take());
  Bytes head(512);
  store_number(head.data() + 4, 4, 0xFFFFFFFF);
  store_number(head.data() + 8, 2, 1);
  store_number(head.data() + 10, 2, 0x10);
  store_number(head.data() + 64, 8, out.size());
  put(head, 88, as_bytes("CS"));
  store_number(head.data() + 90, 4, 1);
  store_number(head.data() + 96, 4, kBlock);
  for (std::size_t i = 0; i < 4; ++i)
    store_number(head.data() + 104 + i * 8, 8, i == 1 ? kLabelAt / kBlock : 150);
  store_number(head.data() + 168, 4, 16);
  store_number(head.data() + 172, 4, form.method);
  put(head, 176, key);
  put(head, 304, id);
  sum(head);
  put(out, 0, head);
  return out;
}

}  // namespace operculum::test
