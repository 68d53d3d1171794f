#include "support/seals.h"

#include <openssl/evp.h>

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
  if (!options.key.empty()) {
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
