#include "support/encrypted_image_writer.h"

#include <openssl/evp.h>
#include <openssl/hmac.h>

#include "base/numbers.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

void crypt(const EVP_CIPHER* cipher, const Byte* key, const Byte* vector, ByteSpan bytes) {
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  int length = 0;
  EVP_EncryptInit_ex(context, cipher, nullptr, key, vector);
  EVP_CIPHER_CTX_set_padding(context, 0);
  EVP_EncryptUpdate(context, bytes.data(), &length, bytes.data(), static_cast<int>(bytes.size()));
  EVP_CIPHER_CTX_free(context);
}

}  // namespace

Bytes sealed_head(const Sealing& how, std::size_t data_size, std::size_t data_at) {
  Bytes keys = noise(how.key_size + 20, 9), vector = noise(8, 3), salt = noise(20, 4), derived(24);
  PKCS5_PBKDF2_HMAC_SHA1(how.passphrase.data(), static_cast<int>(how.passphrase.size()), salt.data(),
                         static_cast<int>(salt.size()), 1000, 24, derived.data());
  Bytes blob = keys;
  for (char c : std::string("CKIE\0", 5)) blob.push_back(static_cast<Byte>(c));
  std::size_t padding = 8 - blob.size() % 8;
  blob.insert(blob.end(), padding, static_cast<Byte>(padding));
  crypt(EVP_des_ede3_cbc(), derived.data(), vector.data(), blob);
  ByteWriter key;
  key.u32be(103).u32be(0).u32be(1000).u32be(salt.size()).bytes(salt).zeros(32 - salt.size());
  key.u32be(vector.size()).bytes(vector).zeros(32 - vector.size());
  key.u32be(192).u32be(17).u32be(7).u32be(6).u32be(blob.size()).bytes(blob);
  ByteWriter head;
  head.text("encrcdsa").u32be(how.version).u32be(16).u32be(5).u32be(0x80000001).u32be(how.key_size * 8);
  head.u32be(91).u32be(160).bytes(noise(16, 6)).u32be(how.block).u64be(data_size).u64be(data_at);
  head.u32be(1).u32be(how.key_type).u64be(200).u64be(key.size()).zeros(200 - 96).bytes(key.view());
  head.zeros(data_at - head.size());
  return head.take();
}

void seal(const Sealing& how, Bytes& data) {
  Bytes keys = noise(how.key_size + 20, 9);
  data.resize((data.size() + how.block - 1) / how.block * how.block);
  for (std::size_t i = 0; i * how.block < data.size(); ++i) {
    Bytes number(4), sum(20);
    store_number(number.data(), 4, i, std::endian::big);
    HMAC(EVP_sha1(), keys.data() + how.key_size, 20, number.data(), 4, sum.data(), nullptr);
    crypt(how.key_size == 16 ? EVP_aes_128_cbc() : EVP_aes_256_cbc(), keys.data(), sum.data(),
          ByteSpan(data).subspan(i * how.block, how.block));
  }
}

Bytes sealed(const Sealing& how, Bytes data) {
  constexpr std::size_t kDataAt = 4096;
  Bytes out = sealed_head(how, data.size(), kDataAt);
  seal(how, data);
  out.insert(out.end(), data.begin(), data.end());
  return out;
}

}  // namespace operculum::test
