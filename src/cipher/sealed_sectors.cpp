#include "cipher/sealed_sectors.h"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>

#include <algorithm>

#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "cipher/key_derivation.h"
#include "cipher/keyed_cipher.h"
#include "cipher/secret.h"

namespace operculum {
namespace {

constexpr std::size_t kNumber = 8;

/// What is authenticated besides the sector: its number and the initialisation vector.
Bytes front_of(std::uint64_t number, ByteView vector) {
  Bytes out(kNumber);
  store_number(out.data(), kNumber, number);
  out.insert(out.end(), vector.begin(), vector.end());
  return out;
}

/// Encrypted, then authenticated with an HMAC, whose key is behind the cipher's.
class HmacSectors final : public SealedSectors {
 public:
  HmacSectors(const EVP_CIPHER* cipher, const EVP_MD* digest, bool random, ByteView key)
      : sum_size_(static_cast<std::size_t>(EVP_MD_get_size(digest))),
        cipher_(cipher, key.first(key.size() - sum_size_), false),
        digest_(digest),
        random_(random),
        hmac_key_(sum_size_) {
    ByteView own = key.last(sum_size_);
    std::copy(own.begin(), own.end(), hmac_key_.span().begin());
  }

  std::size_t tag_size() const override { return sum_size_ + (random_ ? cipher_.vector_size() : 0); }

  bool open(std::uint64_t number, ByteView tag, ByteSpan sector) const override {
    Bytes vector(cipher_.vector_size());
    if (random_)
      std::copy_n(tag.begin() + static_cast<std::ptrdiff_t>(sum_size_), vector.size(), vector.begin());
    else
      store_number(vector.data(), kNumber, number);
    Bytes all = front_of(number, vector);
    all.insert(all.end(), sector.begin(), sector.end());
    Bytes sum(EVP_MAX_MD_SIZE);
    if (HMAC(digest_, hmac_key_.view().data(), static_cast<int>(hmac_key_.size()), all.data(), all.size(),
             sum.data(), nullptr) == nullptr)
      throw std::bad_alloc();
    if (!same_secret(ByteView(sum).first(sum_size_), tag.first(sum_size_))) return false;
    cipher_.with([&](EVP_CIPHER_CTX* context) {
      int length = 0;
      must_take("sector", EVP_DecryptInit_ex(context, nullptr, nullptr, nullptr, vector.data()) == 1 &&
                              EVP_DecryptUpdate(context, sector.data(), &length, sector.data(),
                                                static_cast<int>(sector.size())) == 1);
    });
    return true;
  }

 private:
  std::size_t sum_size_;  ///< bytes
  KeyedCipher cipher_;
  const EVP_MD* digest_;
  bool random_;
  Secret hmac_key_;
};

/// A cipher that authenticates by itself; its initialisation vector is random.
class AeadSectors final : public SealedSectors {
 public:
  AeadSectors(const EVP_CIPHER* cipher, ByteView key) : cipher_(cipher, key, false) {}

  std::size_t tag_size() const override { return kTag + cipher_.vector_size(); }

  bool open(std::uint64_t number, ByteView tag, ByteSpan sector) const override {
    ByteView vector = tag.subspan(kTag, cipher_.vector_size());
    Bytes front = front_of(number, vector), own(tag.begin(), tag.begin() + kTag);
    bool fits = false;
    cipher_.with([&](EVP_CIPHER_CTX* context) {
      int length = 0;
      must_take("sector", EVP_DecryptInit_ex(context, nullptr, nullptr, nullptr, vector.data()) == 1 &&
                              EVP_DecryptUpdate(context, nullptr, &length, front.data(),
                                                static_cast<int>(front.size())) == 1 &&
                              EVP_DecryptUpdate(context, sector.data(), &length, sector.data(),
                                                static_cast<int>(sector.size())) == 1 &&
                              EVP_CIPHER_CTX_ctrl(context, EVP_CTRL_AEAD_SET_TAG,
                                                  static_cast<int>(own.size()), own.data()) == 1);
      fits = EVP_DecryptFinal_ex(context, own.data(), &length) == 1;
    });
    return fits;
  }

 private:
  static constexpr std::size_t kTag = 16;
  KeyedCipher cipher_;
};

}  // namespace

std::shared_ptr<const SealedSectors> make_sealed_sectors(const std::string& cipher,
                                                         const std::string& integrity, ByteView key) {
  auto unsupported = [&] {
    return Unsupported(fmt::format("the cipher {} with integrity {} and keys of {} bits", escape(cipher),
                                   escape(integrity), key.size() * 8));
  };
  std::vector<std::string_view> parts = split(cipher, '-');
  std::string_view vectors = parts.back();
  bool random = vectors == "random";
  if (integrity == "poly1305" && cipher == "chacha20-random")
    return std::make_shared<AeadSectors>(EVP_chacha20_poly1305(), key);
  if (integrity == "aead" && cipher == "aes-gcm-random") {
    const EVP_CIPHER* own = key.size() == 16   ? EVP_aes_128_gcm()
                            : key.size() == 32 ? EVP_aes_256_gcm()
                                               : nullptr;
    if (own == nullptr) throw unsupported();
    return std::make_shared<AeadSectors>(own, key);
  }
  constexpr std::string_view kHmac = "hmac(";
  bool hmac = integrity.starts_with(kHmac) && integrity.ends_with(')');
  if (!hmac || parts.size() != 3 || (!random && vectors != "plain64")) throw unsupported();
  const EVP_MD* digest =
      EVP_get_digestbyname(integrity.substr(kHmac.size(), integrity.size() - kHmac.size() - 1).c_str());
  if (digest == nullptr || key.size() <= static_cast<std::size_t>(EVP_MD_get_size(digest)))
    throw unsupported();
  std::size_t bits =
      (key.size() - static_cast<std::size_t>(EVP_MD_get_size(digest))) * 8 / (parts[1] == "xts" ? 2 : 1);
  const EVP_CIPHER* own = EVP_get_cipherbyname(fmt::format("{}-{}-{}", parts[0], bits, parts[1]).c_str());
  if (own == nullptr || EVP_CIPHER_get_iv_length(own) != 16 || (parts[1] != "xts" && parts[1] != "cbc"))
    throw unsupported();
  return std::make_shared<HmacSectors>(own, digest, random, key);
}

}  // namespace operculum
