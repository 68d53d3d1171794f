#include "cipher/key_derivation.h"

#include <argon2.h>
#include <fmt/format.h>
#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>
#include <openssl/kdf.h>
#include <openssl/sha.h>

#include <algorithm>
#include <memory>

#include "base/error.h"
#include "base/text.h"
#include "cipher/keyed_cipher.h"

namespace operculum {
namespace {

const EVP_MD* digest_called(const std::string& hash) {
  const EVP_MD* digest = EVP_get_digestbyname(hash.c_str());
  if (digest == nullptr) throw Unsupported(fmt::format("the hash \"{}\"", escape(hash)));
  return digest;
}

}  // namespace

void DerivationBudget::spend(std::uint64_t rounds) {
  constexpr std::uint64_t kMost = 200'000'000;
  spent_ += std::min(rounds, kMost);
  if (spent_ > kMost)
    throw LimitExceeded("its ways to the key together take more work than is done for one password");
}

Secret derive_pbkdf2(ByteView password, const std::string& hash, ByteView salt, std::uint64_t rounds,
                     std::size_t size) {
  constexpr std::uint64_t kMostRounds = 50'000'000;  // a minute; cryptsetup chooses what takes two seconds
  const EVP_MD* digest = digest_called(hash);
  if (rounds == 0) throw Malformed("a key derived in 0 rounds is not possible");
  if (rounds > kMostRounds)
    throw LimitExceeded(
        fmt::format("deriving the key takes {} rounds, more than the {} that are done", rounds, kMostRounds));
  Secret out(size);
  if (PKCS5_PBKDF2_HMAC(reinterpret_cast<const char*>(password.data()), static_cast<int>(password.size()),
                        salt.data(), static_cast<int>(salt.size()), static_cast<int>(rounds), digest,
                        static_cast<int>(size), out.span().data()) != 1)
    throw Unsupported(fmt::format("PBKDF2 with \"{}\"", escape(hash)));
  return out;
}

Secret derive_hkdf(ByteView secret, std::string_view info, std::size_t size) {
  Secret out(size);
  std::unique_ptr<EVP_PKEY_CTX, decltype(&EVP_PKEY_CTX_free)> context{
      EVP_PKEY_CTX_new_id(EVP_PKEY_HKDF, nullptr), EVP_PKEY_CTX_free};
  bool done =
      context && EVP_PKEY_derive_init(context.get()) == 1 &&
      EVP_PKEY_CTX_set_hkdf_md(context.get(), EVP_sha256()) == 1 &&
      EVP_PKEY_CTX_set1_hkdf_key(context.get(), secret.data(), static_cast<int>(secret.size())) == 1 &&
      EVP_PKEY_CTX_add1_hkdf_info(context.get(), as_bytes(info).data(), static_cast<int>(info.size())) == 1 &&
      EVP_PKEY_derive(context.get(), out.span().data(), &size) == 1;
  if (!done) throw Unsupported("HKDF with SHA-256");
  return out;
}

Secret hmac_of(ByteView key, ByteView bytes) {
  Secret out(SHA256_DIGEST_LENGTH);
  HMAC(EVP_sha256(), key.data(), static_cast<int>(key.size()), bytes.data(), bytes.size(), out.span().data(),
       nullptr);
  return out;
}

Secret derive_argon2(ByteView password, const Argon2& settings, ByteView salt, std::size_t size) {
  constexpr std::uint64_t kMostMemory = std::uint64_t{4} << 20;  // KiB: the most that LUKS2 allows
  constexpr std::uint64_t kMostWork = std::uint64_t{64} << 20;   // KiB passed over: a minute
  if (settings.memory > kMostMemory || settings.passes * settings.memory > kMostWork)
    throw LimitExceeded(
        fmt::format("deriving the key takes {} passes over {} MiB of memory, more than is done",
                    settings.passes, settings.memory >> 10));
  Secret out(size);
  auto* hash = settings.data_independent ? argon2i_hash_raw : argon2id_hash_raw;
  int result =
      hash(settings.passes, static_cast<std::uint32_t>(settings.memory), settings.lanes, password.data(),
           password.size(), salt.data(), salt.size(), out.span().data(), out.size());
  if (result == ARGON2_MEMORY_ALLOCATION_ERROR)
    throw LimitExceeded(
        fmt::format("deriving the key takes {} MiB of memory, which are not there", settings.memory >> 10));
  if (result != ARGON2_OK) throw Malformed(fmt::format("Argon2: {}", argon2_error_message(result)));
  return out;
}

std::optional<Secret> unwrap_key(ByteView kek, ByteView wrapped) {
  constexpr std::size_t kCheck = 8, kLargest = 1024;
  if (wrapped.size() < 3 * kCheck || wrapped.size() > kLargest || wrapped.size() % kCheck != 0)
    return std::nullopt;
  CipherContext context(EVP_CIPHER_CTX_new());
  if (!context) throw std::bad_alloc();
  EVP_CIPHER_CTX_set_flags(context.get(), EVP_CIPHER_CTX_FLAG_WRAP_ALLOW);
  const EVP_CIPHER* cipher = kek.size() == 16 ? EVP_aes_128_wrap() : EVP_aes_256_wrap();
  Secret out(wrapped.size());
  int length = 0;
  if (EVP_DecryptInit_ex(context.get(), cipher, nullptr, kek.data(), nullptr) != 1 ||
      EVP_DecryptUpdate(context.get(), out.span().data(), &length, wrapped.data(),
                        static_cast<int>(wrapped.size())) != 1)
    return std::nullopt;
  Secret key(wrapped.size() - kCheck);
  std::copy_n(out.view().begin(), key.size(), key.span().begin());
  return key;
}

std::optional<Secret> open_ccm(ByteView key, ByteView nonce, ByteView tag, ByteView sealed) {
  CipherContext context(EVP_CIPHER_CTX_new());
  if (!context) throw std::bad_alloc();
  const EVP_CIPHER* cipher = key.size() == 16 ? EVP_aes_128_ccm() : EVP_aes_256_ccm();
  Secret out(sealed.size());
  int length = 0;
  Bytes expected(tag.begin(), tag.end());
  if (EVP_DecryptInit_ex(context.get(), cipher, nullptr, nullptr, nullptr) != 1 ||
      EVP_CIPHER_CTX_ctrl(context.get(), EVP_CTRL_AEAD_SET_IVLEN, static_cast<int>(nonce.size()), nullptr) !=
          1 ||
      EVP_CIPHER_CTX_ctrl(context.get(), EVP_CTRL_AEAD_SET_TAG, static_cast<int>(expected.size()),
                          expected.data()) != 1 ||
      EVP_DecryptInit_ex(context.get(), nullptr, nullptr, key.data(), nonce.data()) != 1 ||
      EVP_DecryptUpdate(context.get(), out.span().data(), &length, sealed.data(),
                        static_cast<int>(sealed.size())) != 1)
    return std::nullopt;
  return out;
}

Secret hash_of(const std::string& hash, ByteView bytes) {
  const EVP_MD* digest = digest_called(hash);
  Secret out(static_cast<std::size_t>(EVP_MD_get_size(digest)));
  unsigned length = 0;
  if (EVP_Digest(bytes.data(), bytes.size(), out.span().data(), &length, digest, nullptr) != 1)
    throw Unsupported(fmt::format("the hash \"{}\"", escape(hash)));
  return out;
}

bool same_secret(ByteView a, ByteView b) {
  return a.size() == b.size() && CRYPTO_memcmp(a.data(), b.data(), a.size()) == 0;
}

}  // namespace operculum
