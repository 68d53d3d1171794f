#include "cipher/zip_aes.h"

#include <openssl/evp.h>
#include <openssl/hmac.h>

#include <algorithm>
#include <array>

#include "base/error.h"

namespace operculum {
namespace {

constexpr int kRounds = 1000;
constexpr std::size_t kAesBlock = 16;

/// AES in counter mode with the counter in little-endian order, which OpenSSL's own mode does not offer.
class CounterCipher {
 public:
  explicit CounterCipher(const Bytes& key) : context_(EVP_CIPHER_CTX_new()) {
    const EVP_CIPHER* cipher = key.size() == 16   ? EVP_aes_128_ecb()
                               : key.size() == 24 ? EVP_aes_192_ecb()
                                                  : EVP_aes_256_ecb();
    EVP_EncryptInit_ex(context_, cipher, nullptr, key.data(), nullptr);
    EVP_CIPHER_CTX_set_padding(context_, 0);
  }
  ~CounterCipher() { EVP_CIPHER_CTX_free(context_); }
  CounterCipher(const CounterCipher&) = delete;
  CounterCipher& operator=(const CounterCipher&) = delete;

  void apply(ByteSpan bytes) {
    for (Byte& b : bytes) {
      if (at_ == pad_.size()) refill();
      b ^= pad_[at_++];
    }
  }

 private:
  static constexpr std::size_t kBlocks = 256;  // encrypted at a time

  void refill() {
    std::array<Byte, kBlocks * kAesBlock> counters{};
    for (std::size_t block = 0; block < kBlocks; ++block) {
      std::uint64_t value = ++counter_;
      for (std::size_t i = 0; i < 8; ++i)
        counters[block * kAesBlock + i] = static_cast<Byte>(value >> (8 * i));
    }
    int length = 0;
    EVP_EncryptUpdate(context_, pad_.data(), &length, counters.data(), static_cast<int>(counters.size()));
    at_ = 0;
  }

  EVP_CIPHER_CTX* context_;
  std::uint64_t counter_ = 0;
  std::array<Byte, kBlocks * kAesBlock> pad_{};
  std::size_t at_ = kBlocks * kAesBlock;
};

class Authenticator {
 public:
  explicit Authenticator(const Bytes& key)
      : mac_(EVP_MAC_fetch(nullptr, "HMAC", nullptr)), context_(EVP_MAC_CTX_new(mac_)) {
    char digest[] = "SHA1";
    OSSL_PARAM parameters[] = {OSSL_PARAM_construct_utf8_string("digest", digest, 0),
                               OSSL_PARAM_construct_end()};
    EVP_MAC_init(context_, key.data(), key.size(), parameters);
  }
  ~Authenticator() {
    EVP_MAC_CTX_free(context_);
    EVP_MAC_free(mac_);
  }
  Authenticator(const Authenticator&) = delete;
  Authenticator& operator=(const Authenticator&) = delete;
  void add(ByteView bytes) { EVP_MAC_update(context_, bytes.data(), bytes.size()); }
  Bytes finish() {
    Bytes code(20);
    std::size_t length = 0;
    EVP_MAC_final(context_, code.data(), &length, code.size());
    code.resize(ZipAes::kCode);
    return code;
  }

 private:
  EVP_MAC* mac_;
  EVP_MAC_CTX* context_;
};

class AesStream final : public Stream {
 public:
  AesStream(const ZipAes& aes, StreamPtr stored, std::uint64_t stored_size, std::string_view password)
      : stored_(std::move(stored)), left_(stored_size - aes.overhead()), salt_(aes.salt_size()) {
    if (read_fully(*stored_, salt_) < salt_.size()) throw CutShort("the encrypted data ends within its salt");
    Bytes verifier(ZipAes::kVerifier);
    read_fully(*stored_, verifier);
    keys_ = aes.derive(password, salt_);
    cipher_ = std::make_unique<CounterCipher>(keys_.cipher);
    authenticator_ = std::make_unique<Authenticator>(keys_.authentication);
  }

  std::size_t read(ByteSpan out) override {
    auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), left_));
    if (wanted == 0) {
      check_code();
      return 0;
    }
    std::size_t count = stored_->read(out.first(wanted));
    if (count == 0) throw CutShort("the encrypted data ends too early; it is cut short");
    left_ -= count;
    authenticator_->add(out.first(count));
    cipher_->apply(out.first(count));
    return count;
  }

 private:
  void check_code() {
    if (checked_) return;
    checked_ = true;
    Bytes code(ZipAes::kCode);
    if (read_fully(*stored_, code) < code.size())
      throw CutShort("the authentication code is missing; the data is cut short");
    if (code != authenticator_->finish()) {
      throw Malformed("the password is right, but the authentication code differs; the data is damaged");
    }
  }

  StreamPtr stored_;
  std::uint64_t left_;
  Bytes salt_;
  ZipAes::Keys keys_;
  std::unique_ptr<CounterCipher> cipher_;
  std::unique_ptr<Authenticator> authenticator_;
  bool checked_ = false;
};

}  // namespace

ZipAes::Keys ZipAes::derive(std::string_view password, ByteView salt) const {
  Bytes all(2 * key_size() + kVerifier);
  PKCS5_PBKDF2_HMAC_SHA1(password.data(), static_cast<int>(password.size()), salt.data(),
                         static_cast<int>(salt.size()), kRounds, static_cast<int>(all.size()), all.data());
  auto part = [&](std::size_t from, std::size_t length) {
    auto begin = all.begin() + static_cast<std::ptrdiff_t>(from);
    return Bytes(begin, begin + static_cast<std::ptrdiff_t>(length));
  };
  return {part(0, key_size()), part(key_size(), key_size()), part(2 * key_size(), kVerifier)};
}

bool ZipAes::fits(std::string_view password, ByteView salt_and_verifier) const {
  if (salt_and_verifier.size() < salt_size() + kVerifier) return false;
  Keys keys = derive(password, salt_and_verifier.first(salt_size()));
  ByteView stored = salt_and_verifier.subspan(salt_size(), kVerifier);
  return std::equal(stored.begin(), stored.end(), keys.verifier.begin());
}

struct ZipAes::Encryption::State {
  CounterCipher cipher;
  Authenticator authenticator;
};

ZipAes::Encryption::Encryption(const Keys& keys)
    : state_(new State{CounterCipher(keys.cipher), Authenticator(keys.authentication)}) {}
ZipAes::Encryption::~Encryption() = default;

void ZipAes::Encryption::apply(ByteSpan bytes) {
  state_->cipher.apply(bytes);
  state_->authenticator.add(bytes);
}

Bytes ZipAes::Encryption::code() {
  return state_->authenticator.finish();
}

StreamPtr open_zip_aes(const ZipAes& aes, StreamPtr stored, std::uint64_t stored_size,
                       std::string_view password) {
  if (stored_size < aes.overhead())
    throw Malformed("the entry is shorter than its encryption needs; it is damaged");
  return std::make_unique<AesStream>(aes, std::move(stored), stored_size, password);
}

}  // namespace operculum
