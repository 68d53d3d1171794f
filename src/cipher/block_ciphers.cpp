// The low-level functions of libcrypto are used for Blowfish and DES: its newer interface has them only where
// a further module is installed.
#define OPENSSL_SUPPRESS_DEPRECATED
#include "cipher/block_ciphers.h"

#include <fmt/format.h>
#include <openssl/aes.h>
#include <openssl/blowfish.h>
#include <openssl/des.h>

#include <algorithm>
#include <array>

#include "base/error.h"

namespace operculum {
namespace {

void check_key(std::string_view cipher, std::size_t length, bool fits, std::string_view wanted) {
  if (!fits)
    throw NeedsKey(fmt::format("a key of {} bytes does not fit {}, which wants {}", length, cipher, wanted));
}

class Aes final : public BlockCipher {
 public:
  explicit Aes(ByteView key) {
    check_key("AES", key.size(), key.size() == 16 || key.size() == 24 || key.size() == 32, "16, 24 or 32");
    AES_set_encrypt_key(key.data(), static_cast<int>(key.size() * 8), &encrypt_);
    AES_set_decrypt_key(key.data(), static_cast<int>(key.size() * 8), &decrypt_);
  }
  std::size_t block() const override { return 16; }
  void encrypt(Byte* block) const override { AES_encrypt(block, block, &encrypt_); }
  void decrypt(Byte* block) const override { AES_decrypt(block, block, &decrypt_); }

 private:
  AES_KEY encrypt_{}, decrypt_{};
};

class Des final : public BlockCipher {
 public:
  explicit Des(ByteView key) {
    check_key("DES", key.size(), key.size() == 8 || key.size() == 16 || key.size() == 24, "8, 16 or 24");
    triple_ = key.size() > 8;
    for (std::size_t i = 0; i < 3; ++i) {
      std::size_t from = (i * 8) % key.size();  // of two keys the third is the first
      DES_cblock part;
      std::copy_n(key.begin() + static_cast<std::ptrdiff_t>(from), 8, part);
      DES_set_key_unchecked(&part, &keys_[i]);
    }
  }
  std::size_t block() const override { return 8; }
  void encrypt(Byte* block) const override { apply(block, DES_ENCRYPT); }
  void decrypt(Byte* block) const override { apply(block, DES_DECRYPT); }

 private:
  void apply(Byte* block, int direction) const {
    auto* data = reinterpret_cast<DES_cblock*>(block);
    auto* keys =
        const_cast<DES_key_schedule*>(keys_.data());  // the library's signature; it does not write there
    if (triple_) {
      DES_ecb3_encrypt(data, data, &keys[0], &keys[1], &keys[2], direction);
    } else {
      DES_ecb_encrypt(data, data, &keys[0], direction);
    }
  }
  bool triple_ = false;
  std::array<DES_key_schedule, 3> keys_{};
};

/// Two 32-bit words a block.
struct Words {
  std::uint32_t a, b;
  static std::uint32_t load(const Byte* from, WordOrder order) {
    std::uint32_t word = 0;
    for (unsigned i = 0; i < 4; ++i)
      word |= std::uint32_t{from[i]} << (order == WordOrder::little ? 8 * i : 24 - 8 * i);
    return word;
  }
  static void store(Byte* to, std::uint32_t word, WordOrder order) {
    for (unsigned i = 0; i < 4; ++i)
      to[i] = static_cast<Byte>(word >> (order == WordOrder::little ? 8 * i : 24 - 8 * i));
  }
  Words(const Byte* block, WordOrder order) : a(load(block, order)), b(load(block + 4, order)) {}
  void put(Byte* block, WordOrder order) const {
    store(block, a, order);
    store(block + 4, b, order);
  }
};

class Blowfish final : public BlockCipher {
 public:
  Blowfish(ByteView key, WordOrder order) : order_(order) {
    check_key("Blowfish", key.size(), key.size() >= 4 && key.size() <= 56, "4 to 56");
    BF_set_key(&key_, static_cast<int>(key.size()), key.data());
  }
  std::size_t block() const override { return 8; }
  void encrypt(Byte* block) const override { apply(block, BF_encrypt); }
  void decrypt(Byte* block) const override { apply(block, BF_decrypt); }

 private:
  template <typename Function>
  void apply(Byte* block, Function function) const {
    Words words(block, order_);
    BF_LONG data[2] = {words.a, words.b};
    function(data, &key_);
    words.a = data[0];
    words.b = data[1];
    words.put(block, order_);
  }
  BF_KEY key_{};
  WordOrder order_;
};

constexpr std::uint32_t kDelta = 0x9e3779b9;  // from the golden ratio
constexpr unsigned kMostRounds = 1024;

/// What TEA and XTEA have in common: four key words, and rounds.
class TeaFamily : public BlockCipher {
 public:
  TeaFamily(std::string_view name, ByteView key, WordOrder order, unsigned rounds)
      : order_(order), rounds_(rounds) {
    check_key(name, key.size(), key.size() == 16, "16");
    if (rounds == 0 || rounds > kMostRounds) throw Malformed(fmt::format("{} of {} rounds", name, rounds));
    for (std::size_t i = 0; i < 4; ++i) key_[i] = Words::load(key.data() + 4 * i, order);
  }
  std::size_t block() const final { return 8; }

 protected:
  WordOrder order_;
  unsigned rounds_;
  std::array<std::uint32_t, 4> key_{};
};

class Tea final : public TeaFamily {
 public:
  Tea(ByteView key, WordOrder order, unsigned rounds) : TeaFamily("TEA", key, order, rounds) {}
  void encrypt(Byte* block) const override {
    Words v(block, order_);
    std::uint32_t sum = 0;
    for (unsigned i = 0; i < rounds_; ++i) {
      sum += kDelta;
      v.a += ((v.b << 4) + key_[0]) ^ (v.b + sum) ^ ((v.b >> 5) + key_[1]);
      v.b += ((v.a << 4) + key_[2]) ^ (v.a + sum) ^ ((v.a >> 5) + key_[3]);
    }
    v.put(block, order_);
  }
  void decrypt(Byte* block) const override {
    Words v(block, order_);
    std::uint32_t sum = kDelta * rounds_;
    for (unsigned i = 0; i < rounds_; ++i) {
      v.b -= ((v.a << 4) + key_[2]) ^ (v.a + sum) ^ ((v.a >> 5) + key_[3]);
      v.a -= ((v.b << 4) + key_[0]) ^ (v.b + sum) ^ ((v.b >> 5) + key_[1]);
      sum -= kDelta;
    }
    v.put(block, order_);
  }
};

class Xtea final : public TeaFamily {
 public:
  Xtea(ByteView key, WordOrder order, unsigned rounds) : TeaFamily("XTEA", key, order, rounds) {}
  void encrypt(Byte* block) const override {
    Words v(block, order_);
    std::uint32_t sum = 0;
    for (unsigned i = 0; i < rounds_; ++i) {
      v.a += (((v.b << 4) ^ (v.b >> 5)) + v.b) ^ (sum + key_[sum & 3]);
      sum += kDelta;
      v.b += (((v.a << 4) ^ (v.a >> 5)) + v.a) ^ (sum + key_[sum >> 11 & 3]);
    }
    v.put(block, order_);
  }
  void decrypt(Byte* block) const override {
    Words v(block, order_);
    std::uint32_t sum = kDelta * rounds_;
    for (unsigned i = 0; i < rounds_; ++i) {
      v.b -= (((v.a << 4) ^ (v.a >> 5)) + v.a) ^ (sum + key_[sum >> 11 & 3]);
      sum -= kDelta;
      v.a -= (((v.b << 4) ^ (v.b >> 5)) + v.b) ^ (sum + key_[sum & 3]);
    }
    v.put(block, order_);
  }
};

class BlockStream final : public Stream {
 public:
  enum class Way { decrypt, encrypt };
  BlockStream(StreamPtr stored, std::unique_ptr<BlockCipher> cipher, BlockMode mode, ByteView iv, Way way)
      : stored_(std::move(stored)),
        cipher_(std::move(cipher)),
        mode_(mode),
        way_(way),
        chain_(cipher_->block()) {
    std::copy_n(iv.begin(), std::min(iv.size(), chain_.size()), chain_.begin());
  }

  std::size_t read(ByteSpan out) override {
    if (at_ == ready_.size() && !fill()) return 0;
    std::size_t count = std::min(out.size(), ready_.size() - at_);
    std::copy_n(ready_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  static constexpr std::size_t kBlock = 64 * 1024;

  bool fill() {
    ready_.resize(kBlock);
    ready_.resize(read_fully(*stored_, ready_));
    at_ = 0;
    std::size_t size = cipher_->block();
    for (std::size_t i = 0; i < ready_.size(); i += size) {
      std::size_t count = std::min(size, ready_.size() - i);
      if (mode_ == BlockMode::ctr) {
        count_up(&ready_[i], count);
      } else if (count == size) {
        link(&ready_[i]);
      }
    }
    return !ready_.empty();
  }

  void link(Byte* block) {
    if (way_ == Way::encrypt) return seal(block);
    Bytes stored(block, block + chain_.size());
    cipher_->decrypt(block);
    if (mode_ == BlockMode::ecb) return;
    for (std::size_t i = 0; i < chain_.size(); ++i) block[i] ^= chain_[i];
    chain_ = std::move(stored);
  }

  void seal(Byte* block) {
    bool linked = mode_ == BlockMode::cbc;
    for (std::size_t i = 0; linked && i < chain_.size(); ++i) block[i] ^= chain_[i];
    cipher_->encrypt(block);
    if (linked) std::copy_n(block, chain_.size(), chain_.begin());
  }

  void count_up(Byte* data, std::size_t count) {
    Bytes key = chain_;
    cipher_->encrypt(key.data());
    for (std::size_t i = 0; i < count; ++i) data[i] ^= key[i];
    for (std::size_t i = chain_.size(); i-- > 0;) {
      if (++chain_[i] != 0) break;
    }
  }

  StreamPtr stored_;
  std::unique_ptr<BlockCipher> cipher_;
  BlockMode mode_;
  Way way_;
  Bytes chain_, ready_;
  std::size_t at_ = 0;
};

}  // namespace

std::unique_ptr<BlockCipher> make_aes(ByteView key) {
  return std::make_unique<Aes>(key);
}
std::unique_ptr<BlockCipher> make_des(ByteView key) {
  return std::make_unique<Des>(key);
}
std::unique_ptr<BlockCipher> make_blowfish(ByteView key, WordOrder order) {
  return std::make_unique<Blowfish>(key, order);
}
std::unique_ptr<BlockCipher> make_tea(ByteView key, WordOrder order, unsigned rounds) {
  return std::make_unique<Tea>(key, order, rounds);
}
std::unique_ptr<BlockCipher> make_xtea(ByteView key, WordOrder order, unsigned rounds) {
  return std::make_unique<Xtea>(key, order, rounds);
}
StreamPtr open_block_cipher(StreamPtr stored, std::unique_ptr<BlockCipher> cipher, BlockMode mode,
                            ByteView iv) {
  return std::make_unique<BlockStream>(std::move(stored), std::move(cipher), mode, iv,
                                       BlockStream::Way::decrypt);
}
StreamPtr seal_block_cipher(StreamPtr plain, std::unique_ptr<BlockCipher> cipher, BlockMode mode,
                            ByteView iv) {
  return std::make_unique<BlockStream>(std::move(plain), std::move(cipher), mode, iv,
                                       BlockStream::Way::encrypt);
}

}  // namespace operculum
