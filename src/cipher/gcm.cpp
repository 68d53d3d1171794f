#include "cipher/gcm.h"

#include <fmt/format.h>

#include "base/error.h"
#include "cipher/keyed_cipher.h"

namespace operculum {
namespace {

const EVP_CIPHER* cipher_for(ByteView key) {
  if (key.size() == 16) return EVP_aes_128_gcm();
  if (key.size() == 24) return EVP_aes_192_gcm();
  if (key.size() == 32) return EVP_aes_256_gcm();
  throw NeedsKey(fmt::format("a key of {} bytes does not fit AES, which wants 16, 24 or 32", key.size()));
}

class GcmStream final : public Stream {
 public:
  GcmStream(StreamPtr sealed, ByteView key, ByteView nonce, ByteView tag)
      : sealed_(std::move(sealed)), context_(EVP_CIPHER_CTX_new()) {
    if (!context_) throw std::bad_alloc();
    Bytes stated(tag.begin(), tag.end());
    if (EVP_DecryptInit_ex(context_.get(), cipher_for(key), nullptr, nullptr, nullptr) != 1 ||
        EVP_CIPHER_CTX_ctrl(context_.get(), EVP_CTRL_AEAD_SET_IVLEN, static_cast<int>(nonce.size()),
                            nullptr) != 1 ||
        EVP_DecryptInit_ex(context_.get(), nullptr, nullptr, key.data(), nonce.data()) != 1 ||
        EVP_CIPHER_CTX_ctrl(context_.get(), EVP_CTRL_AEAD_SET_TAG, static_cast<int>(stated.size()),
                            stated.data()) != 1)
      throw Malformed(
          fmt::format("AES-GCM with a nonce of {} and a tag of {} bytes", nonce.size(), tag.size()));
  }

  std::size_t read(ByteSpan out) override {
    if (ended_ || out.empty()) return 0;
    std::size_t count = sealed_->read(out);
    int length = 0;
    if (count == 0) {
      ended_ = true;
      Byte none[16];
      if (EVP_DecryptFinal_ex(context_.get(), none, &length) != 1)
        throw Malformed(
            "what AES-GCM sealed does not fit its tag: the key is another one, or the data is damaged");
      return 0;
    }
    must_take("data", EVP_DecryptUpdate(context_.get(), out.data(), &length, out.data(),
                                        static_cast<int>(count)) == 1);
    return count;
  }

 private:
  StreamPtr sealed_;
  CipherContext context_;
  bool ended_ = false;
};

}  // namespace

StreamPtr open_gcm(StreamPtr sealed, ByteView key, ByteView nonce, ByteView tag) {
  return std::make_unique<GcmStream>(std::move(sealed), key, nonce, tag);
}

}  // namespace operculum
