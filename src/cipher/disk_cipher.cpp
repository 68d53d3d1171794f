#include "cipher/disk_cipher.h"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>
#include <tbb/parallel_for.h>

#include <algorithm>
#include <array>
#include <vector>

#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "cipher/elephant.h"
#include "cipher/key_derivation.h"
#include "cipher/keyed_cipher.h"
#include "io/aligned_source.h"

namespace operculum {
namespace {

constexpr std::size_t kBlock = 16, kUnit = 512;
using Vector = std::array<Byte, kBlock>;

const EVP_CIPHER* cipher_called(const std::string& name, const std::string& mode, std::size_t key_size) {
  std::size_t bits = key_size * 8 / (mode == "xts" ? 2 : 1);
  return EVP_get_cipherbyname(fmt::format("{}-{}-{}", name, bits, mode).c_str());
}

void run(EVP_CIPHER_CTX* context, const Byte* vector, ByteSpan bytes) {
  int length = 0;
  must_take("sector",
            (vector == nullptr || EVP_CipherInit_ex(context, nullptr, nullptr, nullptr, vector, -1) == 1) &&
                EVP_CipherUpdate(context, bytes.data(), &length, bytes.data(),
                                 static_cast<int>(bytes.size())) == 1);
}

/// How a sector's number becomes its initialisation vector.
class VectorMaker {
 public:
  VectorMaker(const std::string& kind, const std::string& cipher, ByteView key) {
    auto known = std::find(std::begin(kNames), std::end(kNames), kind.substr(0, kind.find(':')));
    if (known == std::end(kNames))
      throw Unsupported(fmt::format("initialisation vectors of kind \"{}\"", escape(kind)));
    kind_ = static_cast<Kind>(known - std::begin(kNames));
    std::size_t colon = kind.find(':');
    if ((kind_ == Kind::plain64 || kind_ == Kind::hmac) && colon != std::string::npos) {
      auto sector = parse_number(kind.substr(colon + 1));
      if (!sector || *sector < kUnit || *sector % kUnit != 0)
        throw Malformed("sectors are counted in multiples of 512 bytes");
      units_ = *sector / kUnit;
    }
    if (kind_ == Kind::eboiv) encrypt_with(cipher, key);
    if (kind_ == Kind::hmac) {
      hmac_key_ = Secret(key.size());
      std::copy(key.begin(), key.end(), hmac_key_.span().begin());
    }
    if (kind_ != Kind::essiv) return;
    // the number is encrypted with a hash of the key
    if (colon == std::string::npos) throw Malformed("ESSIV without a hash");
    encrypt_with(cipher, hash_of(kind.substr(colon + 1), key).view());
  }

  Vector of(std::uint64_t number) const {
    Vector out{};
    if (kind_ == Kind::none) return out;
    number /= units_;
    if (kind_ == Kind::eboiv) number *= kUnit;
    if (kind_ == Kind::hmac) return hmac_of(number);
    if (kind_ == Kind::plain) number &= 0xFFFFFFFF;
    if (kind_ == Kind::benbi) number = number * (kUnit / kBlock) + 1;
    bool big = kind_ == Kind::plain64be || kind_ == Kind::benbi;
    for (std::size_t i = 0; i < 8; ++i) out[big ? kBlock - 1 - i : i] = static_cast<Byte>(number >> (8 * i));
    if (encrypting_) encrypting_->with([&](EVP_CIPHER_CTX* context) { run(context, nullptr, out); });
    return out;
  }

 private:
  enum class Kind { none, plain, plain64, plain64be, benbi, essiv, eboiv, hmac };
  static constexpr std::string_view kNames[] = {"null",  "plain", "plain64", "plain64be",
                                                "benbi", "essiv", "eboiv",   "hmac"};

  /// The front of HMAC-SHA-1 (RFC 2104) of the number in 32 bits, big-endian.
  Vector hmac_of(std::uint64_t number) const {
    std::array<Byte, 4> text{};
    std::array<Byte, EVP_MAX_MD_SIZE> sum{};
    store_number(text.data(), text.size(), number, std::endian::big);
    if (HMAC(EVP_sha1(), hmac_key_.view().data(), static_cast<int>(hmac_key_.size()), text.data(),
             text.size(), sum.data(), nullptr) == nullptr)
      throw std::bad_alloc();
    Vector out{};
    std::copy_n(sum.begin(), out.size(), out.begin());
    return out;
  }

  void encrypt_with(const std::string& cipher, ByteView key) {
    const EVP_CIPHER* single = cipher_called(cipher, "ecb", key.size());
    if (single == nullptr)
      throw Unsupported(
          fmt::format("initialisation vectors by {} with keys of {} bytes", escape(cipher), key.size()));
    encrypting_ = std::make_unique<KeyedCipher>(single, key, true);
  }

  Kind kind_ = Kind::none;
  std::uint64_t units_ = 1;  ///< of 512 bytes, that are counted as one
  std::unique_ptr<KeyedCipher> encrypting_;
  Secret hmac_key_;
};

/// Modes that OpenSSL has.
class LibraryCipher final : public DiskCipher {
 public:
  LibraryCipher(const EVP_CIPHER* cipher, ByteView key, VectorMaker vectors, std::size_t sector)
      : cipher_(cipher, key, false), vectors_(std::move(vectors)), sector_(sector) {}

  void decrypt(std::uint64_t number, ByteSpan bytes) const override {
    cipher_.with([&](EVP_CIPHER_CTX* context) {
      for (std::size_t at = 0; at < bytes.size(); at += sector_) {
        Vector vector = vectors_.of(number + at / kUnit);
        run(context, vector.data(), bytes.subspan(at, sector_));
      }
    });
  }

 private:
  KeyedCipher cipher_;
  VectorMaker vectors_;
  std::size_t sector_;
};

/// CBC with the Elephant diffusers around it ("AES-CBC + Elephant diffuser", N. Ferguson 2006): two keys.
class ElephantCipher final : public DiskCipher {
 public:
  ElephantCipher(const EVP_CIPHER* chained, const EVP_CIPHER* single, ByteView key, VectorMaker vectors,
                 std::size_t sector)
      : chained_(chained, key.first(key.size() / 2), std::move(vectors), sector),
        tweak_(single, key.subspan(key.size() / 2), true),
        sector_(sector) {}

  void decrypt(std::uint64_t number, ByteSpan bytes) const override {
    chained_.decrypt(number, bytes);
    for (std::size_t at = 0; at < bytes.size(); at += sector_) {
      ByteSpan one = bytes.subspan(at, sector_);
      undo_elephant_diffusers(one);
      std::array<Byte, 2 * kBlock> key = sector_key(number * kUnit + at);
      for (std::size_t i = 0; i < one.size(); ++i) one[i] ^= key[i % key.size()];
    }
  }

 private:
  /// The place of the sector in bytes, encrypted, twice: the second time its last byte is 0x80.
  std::array<Byte, 2 * kBlock> sector_key(std::uint64_t place) const {
    std::array<Byte, 2 * kBlock> out{};
    for (std::size_t i = 0; i < sizeof place; ++i)
      out[i] = out[kBlock + i] = static_cast<Byte>(place >> (8 * i));
    out.back() = 0x80;
    tweak_.with([&](EVP_CIPHER_CTX* context) { run(context, nullptr, out); });
    return out;
  }

  LibraryCipher chained_;
  KeyedCipher tweak_;
  std::size_t sector_;
};

/// XTS (IEEE 1619) of a cipher for which OpenSSL has only single blocks.
class XtsCipher final : public DiskCipher {
 public:
  XtsCipher(const EVP_CIPHER* cipher, ByteView key, VectorMaker vectors, std::size_t sector)
      : data_(cipher, key.first(key.size() / 2), false),
        tweak_(cipher, key.subspan(key.size() / 2), true),
        vectors_(std::move(vectors)),
        sector_(sector) {}

  void decrypt(std::uint64_t number, ByteSpan bytes) const override {
    for (std::size_t at = 0; at < bytes.size(); at += sector_)
      sector(vectors_.of(number + at / kUnit), bytes.subspan(at, sector_));
  }

 private:
  static void times_two(Vector& value) {  // in GF(2^128) with the polynomial x^128 + x^7 + x^2 + x + 1
    Byte carry = 0;
    for (Byte& one : value) {
      Byte next = one >> 7;
      one = static_cast<Byte>(one << 1 | carry);
      carry = next;
    }
    if (carry != 0) value[0] ^= 0x87;
  }

  void sector(Vector vector, ByteSpan bytes) const {
    tweak_.with([&](EVP_CIPHER_CTX* context) { run(context, nullptr, vector); });
    std::vector<Vector> tweaks(bytes.size() / kBlock);
    for (Vector& one : tweaks) {
      one = vector;
      times_two(vector);
    }
    auto mask = [&] {
      for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] ^= tweaks[i / kBlock][i % kBlock];
    };
    mask();
    data_.with([&](EVP_CIPHER_CTX* context) { run(context, nullptr, bytes); });
    mask();
  }

  KeyedCipher data_, tweak_;
  VectorMaker vectors_;
  std::size_t sector_;
};

class DecryptedSource final : public AlignedSource {
 public:
  DecryptedSource(SourcePtr stored, std::uint64_t at, std::uint64_t size,
                  std::shared_ptr<const DiskCipher> cipher, std::size_t sector, std::uint64_t first)
      : AlignedSource(sector),
        stored_(std::move(stored)),
        at_(at),
        size_(size),
        cipher_(std::move(cipher)),
        first_(first) {}

  std::uint64_t size() const override { return size_; }

 protected:
  void read_units(std::uint64_t offset, ByteSpan out) const override {
    if (stored_->read_at(at_ + offset, out) < out.size()) throw CutShort("the encrypted disk is cut short");
    std::size_t share = std::max(kShare / unit() * unit(), unit()), shares = (out.size() + share - 1) / share;
    auto decrypt = [&](std::size_t i) {
      std::uint64_t at = i * share;
      cipher_->decrypt(first_ + (offset + at) / kUnit,
                       out.subspan(at, std::min<std::size_t>(share, out.size() - at)));
    };
    if (shares < 2) return decrypt(0);
    tbb::parallel_for(std::size_t{0}, shares, decrypt);
  }

 private:
  static constexpr std::size_t kShare = 64 * 1024;  // bytes that one thread decrypts at a time

  SourcePtr stored_;
  std::uint64_t at_, size_;
  std::shared_ptr<const DiskCipher> cipher_;
  std::uint64_t first_;
};

}  // namespace

std::shared_ptr<const DiskCipher> make_disk_cipher(const std::string& specification, ByteView key,
                                                   std::size_t sector_size) {
  std::vector<std::string_view> parts = split(specification, '-');
  std::string name = to_lower(parts[0]), mode = parts.size() > 1 ? to_lower(parts[1]) : "",
              kind = parts.size() > 2 ? to_lower(parts[2]) : "null";
  if (mode == "plain") {  // as old headers have it: CBC
    mode = "cbc";
    kind = "plain";
  }
  constexpr std::size_t kHmacKey = 20;
  bool elephant = kind == "elephant", hmac = kind.starts_with("hmac") && key.size() > kHmacKey;
  ByteView own = elephant ? key.first(key.size() / 2) : hmac ? key.first(key.size() - kHmacKey) : key;
  VectorMaker vectors(elephant ? "eboiv" : kind, name, hmac ? key.subspan(own.size()) : own);
  auto unsupported = [&] {
    return Unsupported(
        fmt::format("the cipher {} with keys of {} bits", escape(specification), key.size() * 8));
  };
  if (parts.size() > 3 || sector_size % kUnit != 0 || sector_size == 0) throw unsupported();
  const EVP_CIPHER* whole = cipher_called(name, mode, own.size());
  if (elephant) {
    const EVP_CIPHER* single = cipher_called(name, "ecb", own.size());
    if (whole == nullptr || single == nullptr || mode != "cbc" || key.size() % 2 != 0) throw unsupported();
    return std::make_shared<ElephantCipher>(whole, single, key, std::move(vectors), sector_size);
  }
  if (whole != nullptr && (mode == "xts" || mode == "cbc" || mode == "ecb"))
    return std::make_shared<LibraryCipher>(whole, own, std::move(vectors), sector_size);
  const EVP_CIPHER* block = mode == "xts" ? cipher_called(name, "ecb", key.size() / 2) : nullptr;
  if (block == nullptr || EVP_CIPHER_get_block_size(block) != static_cast<int>(kBlock)) throw unsupported();
  return std::make_shared<XtsCipher>(block, key, std::move(vectors), sector_size);
}

SourcePtr make_decrypted(SourcePtr stored, std::uint64_t at, std::uint64_t size,
                         std::shared_ptr<const DiskCipher> cipher, std::size_t sector_size,
                         std::uint64_t first) {
  return std::make_shared<DecryptedSource>(std::move(stored), at, size, std::move(cipher), sector_size,
                                           first);
}

}  // namespace operculum
