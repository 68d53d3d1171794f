#include "cipher/keyed_cipher.h"

#include <fmt/format.h>

#include "base/error.h"

namespace operculum {

void must_take(std::string_view what, bool taken) {
  if (!taken) throw Malformed(fmt::format("the cipher does not take this {}", what));
}

KeyedCipher::KeyedCipher(const EVP_CIPHER* cipher, ByteView key, bool encrypt)
    : first_(EVP_CIPHER_CTX_new()) {
  if (static_cast<std::size_t>(EVP_CIPHER_get_key_length(cipher)) != key.size())
    throw Malformed(fmt::format("the cipher's key has {} bytes, expected {}", key.size(),
                                EVP_CIPHER_get_key_length(cipher)));
  must_take("key", first_ && EVP_CipherInit_ex(first_.get(), cipher, nullptr, key.data(), nullptr,
                                               encrypt ? 1 : 0) == 1);
  EVP_CIPHER_CTX_set_padding(first_.get(), 0);
}

CipherContext KeyedCipher::take() const {
  {
    std::lock_guard lock(mutex_);
    if (!idle_.empty()) {
      CipherContext out = std::move(idle_.back());
      idle_.pop_back();
      return out;
    }
  }
  CipherContext copy(EVP_CIPHER_CTX_new());
  if (!copy || EVP_CIPHER_CTX_copy(copy.get(), first_.get()) != 1) throw std::bad_alloc();
  return copy;
}

}  // namespace operculum
