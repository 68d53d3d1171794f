#include "support/seals.h"

#include <openssl/ec.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>
#include <openssl/pem.h>
#include <openssl/rsa.h>

#include <memory>

#include "support/byte_writer.h"
#include "support/pack_tools.h"

namespace operculum::test {
namespace {

using Context = std::unique_ptr<EVP_CIPHER_CTX, decltype(&EVP_CIPHER_CTX_free)>;

Context start(const EVP_CIPHER* cipher, ByteView key, const Byte* vector) {
  Context context(EVP_CIPHER_CTX_new(), EVP_CIPHER_CTX_free);
  EVP_CIPHER_CTX_set_flags(context.get(), EVP_CIPHER_CTX_FLAG_WRAP_ALLOW);
  EVP_EncryptInit_ex(context.get(), cipher, nullptr, key.data(), vector);
  return context;
}

Bytes update(EVP_CIPHER_CTX* context, ByteView plain) {
  Bytes out(plain.size() + 32);
  int length = 0;
  EVP_EncryptUpdate(context, out.data(), &length, plain.data(), static_cast<int>(plain.size()));
  out.resize(static_cast<std::size_t>(length));
  return out;
}

}  // namespace

Bytes count_sealed(ByteView key, Bytes plain) {
  const Byte zeros[16] = {};
  return update(start(key.size() == 16 ? EVP_aes_128_ctr() : EVP_aes_256_ctr(), key, zeros).get(), plain);
}

Bytes wrap_key(ByteView kek, ByteView key) {
  return update(start(kek.size() == 16 ? EVP_aes_128_wrap() : EVP_aes_256_wrap(), kek, nullptr).get(), key);
}

GcmSealed gcm_sealed(ByteView key, ByteView nonce, Bytes plain) {
  Context context = start(EVP_aes_256_gcm(), {}, nullptr);
  EVP_CIPHER_CTX_ctrl(context.get(), EVP_CTRL_AEAD_SET_IVLEN, static_cast<int>(nonce.size()), nullptr);
  EVP_EncryptInit_ex(context.get(), nullptr, nullptr, key.data(), nonce.data());
  GcmSealed out{update(context.get(), plain), Bytes(16)};
  int length = 0;
  Byte none[16];
  EVP_EncryptFinal_ex(context.get(), none, &length);
  EVP_CIPHER_CTX_ctrl(context.get(), EVP_CTRL_AEAD_GET_TAG, 16, out.tag.data());
  return out;
}

namespace {

using Owned = std::unique_ptr<EVP_PKEY, decltype(&EVP_PKEY_free)>;

std::string pem_of(EVP_PKEY* key) {
  std::unique_ptr<BIO, decltype(&BIO_free)> out{BIO_new(BIO_s_mem()), BIO_free};
  PEM_write_bio_PrivateKey(out.get(), key, nullptr, nullptr, 0, nullptr, nullptr);
  char* text = nullptr;
  auto size = BIO_get_mem_data(out.get(), &text);
  return {text, static_cast<std::size_t>(size)};
}

Owned new_key(const char* curve) {
  bool x25519 = std::string_view(curve) == "X25519";
  return {x25519 ? EVP_PKEY_Q_keygen(nullptr, nullptr, "X25519") : EVP_EC_gen(curve), EVP_PKEY_free};
}

Bytes public_of(EVP_PKEY* key) {
  unsigned char* raw = nullptr;
  std::size_t size = EVP_PKEY_get1_encoded_public_key(key, &raw);
  Bytes out(raw, raw + size);
  OPENSSL_free(raw);
  return out;
}

Bytes shared_secret(EVP_PKEY* own, EVP_PKEY* other) {
  std::unique_ptr<EVP_PKEY_CTX, decltype(&EVP_PKEY_CTX_free)> context{EVP_PKEY_CTX_new(own, nullptr),
                                                                      EVP_PKEY_CTX_free};
  std::size_t size = 64;
  Bytes out(size);
  EVP_PKEY_derive_init(context.get());
  EVP_PKEY_derive_set_peer(context.get(), other);
  EVP_PKEY_derive(context.get(), out.data(), &size);
  out.resize(size);
  return out;
}

Bytes hmac_sha256(ByteView key, ByteView bytes) {
  Bytes out(32);
  HMAC(EVP_sha256(), key.data(), static_cast<int>(key.size()), bytes.data(), bytes.size(), out.data(),
       nullptr);
  return out;
}

/// RFC 5869, by its text: extract with a salt of zeros, then expand.
Bytes hkdf_sha256(ByteView secret, std::string_view info, std::size_t size) {
  Bytes start = hmac_sha256(Bytes(32), secret), block, out;
  for (Byte counter = 1; out.size() < size; ++counter) {
    block.insert(block.end(), info.begin(), info.end());
    block.push_back(counter);
    block = hmac_sha256(start, block);
    out.insert(out.end(), block.begin(), block.end());
  }
  out.resize(size);
  return out;
}

}  // namespace

SealedKey seal_for_rsa(ByteView key) {
  Owned owner{EVP_RSA_gen(2048), EVP_PKEY_free};
  std::unique_ptr<EVP_PKEY_CTX, decltype(&EVP_PKEY_CTX_free)> context{EVP_PKEY_CTX_new(owner.get(), nullptr),
                                                                      EVP_PKEY_CTX_free};
  EVP_PKEY_encrypt_init(context.get());
  EVP_PKEY_CTX_set_rsa_padding(context.get(), RSA_PKCS1_OAEP_PADDING);
  EVP_PKEY_CTX_set_rsa_oaep_md(context.get(), EVP_sha256());
  EVP_PKEY_CTX_set_rsa_mgf1_md(context.get(), EVP_sha256());
  std::size_t size = 256;
  Bytes value(size);
  EVP_PKEY_encrypt(context.get(), value.data(), &size, key.data(), key.size());
  return {pem_of(owner.get()), 0x30, value};
}

SealedKey seal_on_curve(ByteView key, const char* curve) {
  Owned owner = new_key(curve), once = new_key(curve);
  Bytes derived = hkdf_sha256(shared_secret(once.get(), owner.get()), "MCUBoot_ECIES_v1", key.size() + 32);
  Bytes sealed = count_sealed(ByteView(derived).first(key.size()), Bytes(key.begin(), key.end()));
  Bytes value = public_of(once.get()), mac = hmac_sha256(ByteView(derived).subspan(key.size()), sealed);
  value.insert(value.end(), mac.begin(), mac.end());
  value.insert(value.end(), sealed.begin(), sealed.end());
  return {pem_of(owner.get()), static_cast<std::uint16_t>(value.size() == 64 + key.size() ? 0x33 : 0x32),
          value};
}

Bytes make_mcuboot(const Bytes& image, const McubootOptions& options) {
  ByteWriter guarded;
  if (options.guarded) guarded.u16(0x6908).u16(12).u16(0x50).u16(4).u32(7);  // a security counter
  std::uint32_t flags = options.key.size() == 16 ? 4 : options.key.size() == 32 ? 8 : 0;
  ByteWriter hashed;
  hashed.u32(0x96f3b83d)
      .u32(0x8000)
      .u16(options.header_size)
      .u16(guarded.size())
      .u32(image.size())
      .u32(flags);
  hashed.u8(2).u8(4).u16(1).u32(99).u32(0).zeros(options.header_size - 32);
  Bytes header = hashed.view();
  hashed.bytes(image).bytes(guarded.view());
  Bytes sum = digest("SHA256", hashed.view());
  ByteWriter values;
  values.u16(0x10).u16(sum.size()).bytes(sum);
  if (options.sealed.tag != 0) {
    values.u16(options.sealed.tag).u16(options.sealed.value.size()).bytes(options.sealed.value);
  } else if (!options.key.empty()) {
    Bytes wrapped = wrap_key(options.kek, options.key);
    values.u16(0x31).u16(wrapped.size()).bytes(wrapped);
  }
  return ByteWriter()
      .bytes(header)
      .bytes(options.key.empty() ? image : count_sealed(options.key, image))
      .bytes(guarded.view())
      .u16(0x6907)
      .u16(values.size() + 4)
      .bytes(values.view())
      .take();
}

}  // namespace operculum::test
