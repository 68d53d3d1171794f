#pragma once

#include <openssl/evp.h>

#include <memory>
#include <mutex>
#include <string_view>
#include <vector>

#include "base/bytes.h"

namespace operculum {

/// Gives a context back to OpenSSL.
struct FreeCipherContext {
  void operator()(EVP_CIPHER_CTX* context) const { EVP_CIPHER_CTX_free(context); }
};
using CipherContext = std::unique_ptr<EVP_CIPHER_CTX, FreeCipherContext>;

/// Throws Malformed unless OpenSSL took what it was given: a "sector", a "key".
void must_take(std::string_view what, bool taken);

/// A cipher of OpenSSL with its key, without padding. Contexts are made once for each thread that is at work
/// at the same time.
class KeyedCipher {
 public:
  /// Throws Malformed when the key's length does not fit.
  KeyedCipher(const EVP_CIPHER* cipher, ByteView key, bool encrypt);

  /// Calls `work(context)` with a context that nobody else uses meanwhile.
  template <typename Work>
  void with(Work work) const {
    CipherContext own = take();
    work(own.get());
    std::lock_guard lock(mutex_);
    idle_.push_back(std::move(own));
  }

  std::size_t vector_size() const {  ///< of its initialisation vector, in bytes
    return static_cast<std::size_t>(EVP_CIPHER_CTX_get_iv_length(first_.get()));
  }

 private:
  CipherContext take() const;

  CipherContext first_;
  mutable std::mutex mutex_;
  mutable std::vector<CipherContext> idle_;
};

}  // namespace operculum
