#include "cipher/sealed_sectors.h"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>

#include <algorithm>

#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "cipher/key_derivation.h"
#include "cipher/secret.h"

namespace operculum {
namespace {

constexpr std::size_t kNumber = 8;

struct FreeContext {
  void operator()(EVP_CIPHER_CTX* context) const { EVP_CIPHER_CTX_free(context); }
};
using Context = std::unique_ptr<EVP_CIPHER_CTX, FreeContext>;

Secret copy_of(ByteView key) {
  Secret out(key.size());
  std::copy(key.begin(), key.end(), out.span().begin());
  return out;
}

void require_key(const EVP_CIPHER* cipher, ByteView key) {
  if (static_cast<std::size_t>(EVP_CIPHER_get_key_length(cipher)) != key.size())
    throw Malformed(fmt::format("the cipher's key has {} bytes, expected {}", key.size(),
                                EVP_CIPHER_get_key_length(cipher)));
}

/// What is authenticated besides the sector: its number and the initialisation vector.
Bytes front_of(std::uint64_t number, ByteView vector) {
  Bytes out(kNumber);
  store_number(out.data(), kNumber, number);
  out.insert(out.end(), vector.begin(), vector.end());
  return out;
}

/// Encrypted, then authenticated with an HMAC.
class HmacSectors final : public SealedSectors {
 public:
  HmacSectors(const EVP_CIPHER* cipher, const EVP_MD* digest, bool random, ByteView key)
      : cipher_(cipher), digest_(digest), random_(random) {
    std::size_t sum = sum_size();
    if (key.size() <= sum)
      throw Malformed(fmt::format("a key of {} bytes has no room for that of the HMAC", key.size()));
    require_key(cipher, key.first(key.size() - sum));
    key_ = copy_of(key.first(key.size() - sum));
    hmac_key_ = copy_of(key.last(sum));
  }

  std::size_t tag_size() const override { return sum_size() + (random_ ? vector_size() : 0); }

  bool open(std::uint64_t number, ByteView tag, ByteSpan sector) const override {
    Bytes vector(vector_size());
    if (random_)
      std::copy_n(tag.begin() + static_cast<std::ptrdiff_t>(sum_size()), vector.size(), vector.begin());
    else
      store_number(vector.data(), kNumber, number);
    Bytes all = front_of(number, vector);
    all.insert(all.end(), sector.begin(), sector.end());
    Bytes sum(EVP_MAX_MD_SIZE);
    if (HMAC(digest_, hmac_key_.view().data(), static_cast<int>(hmac_key_.size()), all.data(), all.size(),
             sum.data(), nullptr) == nullptr)
      throw std::bad_alloc();
    if (!same_secret(ByteView(sum).first(sum_size()), tag.first(sum_size()))) return false;
    Context context(EVP_CIPHER_CTX_new());
    int length = 0;
    if (!context ||
        EVP_DecryptInit_ex(context.get(), cipher_, nullptr, key_.view().data(), vector.data()) != 1 ||
        EVP_CIPHER_CTX_set_padding(context.get(), 0) != 1 ||
        EVP_DecryptUpdate(context.get(), sector.data(), &length, sector.data(),
                          static_cast<int>(sector.size())) != 1)
      throw Malformed("the cipher does not take this sector");
    return true;
  }

 private:
  std::size_t sum_size() const { return static_cast<std::size_t>(EVP_MD_get_size(digest_)); }
  std::size_t vector_size() const { return static_cast<std::size_t>(EVP_CIPHER_get_iv_length(cipher_)); }

  const EVP_CIPHER* cipher_;
  const EVP_MD* digest_;
  bool random_;
  Secret key_, hmac_key_;
};

/// A cipher that authenticates by itself; its initialisation vector is random.
class AeadSectors final : public SealedSectors {
 public:
  AeadSectors(const EVP_CIPHER* cipher, ByteView key) : cipher_(cipher) {
    require_key(cipher, key);
    key_ = copy_of(key);
  }

  std::size_t tag_size() const override { return kTag + vector_size(); }

  bool open(std::uint64_t number, ByteView tag, ByteSpan sector) const override {
    ByteView vector = tag.subspan(kTag, vector_size());
    Bytes front = front_of(number, vector), own(tag.begin(), tag.begin() + kTag);
    Context context(EVP_CIPHER_CTX_new());
    int length = 0;
    if (!context ||
        EVP_DecryptInit_ex(context.get(), cipher_, nullptr, key_.view().data(), vector.data()) != 1 ||
        EVP_DecryptUpdate(context.get(), nullptr, &length, front.data(), static_cast<int>(front.size())) !=
            1 ||
        EVP_DecryptUpdate(context.get(), sector.data(), &length, sector.data(),
                          static_cast<int>(sector.size())) != 1 ||
        EVP_CIPHER_CTX_ctrl(context.get(), EVP_CTRL_AEAD_SET_TAG, static_cast<int>(own.size()), own.data()) !=
            1)
      throw Malformed("the cipher does not take this sector");
    return EVP_DecryptFinal_ex(context.get(), own.data(), &length) == 1;
  }

 private:
  static constexpr std::size_t kTag = 16;
  std::size_t vector_size() const { return static_cast<std::size_t>(EVP_CIPHER_get_iv_length(cipher_)); }

  const EVP_CIPHER* cipher_;
  Secret key_;
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
