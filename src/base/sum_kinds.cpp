#include "base/sum_kinds.h"

#include <openssl/evp.h>

#include <algorithm>
#include <array>

#include "base/checksum.h"
#include "base/text.h"

namespace operculum {
namespace {

Bytes big_endian(std::uint64_t value, std::size_t bytes) {
  Bytes out(bytes);
  for (std::size_t i = 0; i < bytes; ++i) out[i] = static_cast<Byte>(value >> (8 * (bytes - 1 - i)));
  return out;
}

/// The sum, or the exclusive or, of units of some bytes, lowest byte first, modulo 2^bits.
template <std::size_t Unit, std::size_t Result, bool Xor>
class UnitSum final : public Sum {
 public:
  void add(ByteView bytes) override {
    for (Byte b : bytes) {
      unit_ |= std::uint64_t{b} << (8 * filled_);
      if (++filled_ == Unit) take();
    }
  }
  Bytes finish() override {
    if (filled_ > 0) take();
    return big_endian(sum_, Result);
  }

 private:
  void take() {
    sum_ = Xor ? sum_ ^ unit_ : sum_ + unit_;
    unit_ = 0;
    filled_ = 0;
  }
  std::uint64_t sum_ = 0, unit_ = 0;
  std::size_t filled_ = 0;
};

class Crc32Sum final : public Sum {
 public:
  void add(ByteView bytes) override { crc_ = crc32(crc_, bytes); }
  Bytes finish() override { return big_endian(crc_, 4); }

 private:
  std::uint32_t crc_ = 0;
};

/// A cyclic redundancy check of 16 or 32 bits with parameters (the model of R. Williams, 1993).
template <unsigned Width>
class ParametrisedCrc final : public Sum {
 public:
  ParametrisedCrc(std::uint64_t polynomial, std::uint64_t start, std::uint64_t last, bool reflected)
      : register_(start & kMask), last_(last & kMask), reflected_(reflected) {
    if (reflected) {
      polynomial = reverse(polynomial);
      register_ = reverse(register_);
    }
    for (std::uint64_t i = 0; i < 256; ++i) {
      std::uint64_t value = reflected ? i : i << (Width - 8);
      for (int bit = 0; bit < 8; ++bit) {
        bool out = (reflected ? value & 1 : value >> (Width - 1) & 1) != 0;
        value = reflected ? value >> 1 : (value << 1) & kMask;
        if (out) value ^= polynomial & kMask;
      }
      table_[i] = value;
    }
  }
  void add(ByteView bytes) override {
    for (Byte b : bytes) {
      register_ = reflected_ ? (register_ >> 8) ^ table_[(register_ ^ b) & 0xff]
                             : ((register_ << 8) & kMask) ^ table_[((register_ >> (Width - 8)) ^ b) & 0xff];
    }
  }
  Bytes finish() override { return big_endian((register_ ^ last_) & kMask, Width / 8); }

 private:
  static constexpr std::uint64_t kMask = (std::uint64_t{1} << Width) - 1;
  static std::uint64_t reverse(std::uint64_t value) {
    std::uint64_t out = 0;
    for (unsigned i = 0; i < Width; ++i) out |= ((value >> i) & 1) << (Width - 1 - i);
    return out;
  }
  std::uint64_t register_, last_;
  bool reflected_;
  std::array<std::uint64_t, 256> table_{};
};

/// The defaults of the parameters, and what is given instead of them.
template <unsigned Width, std::int64_t Polynomial, std::int64_t Start, std::int64_t Last,
          std::int64_t Reflected>
std::unique_ptr<Sum> make_crc(std::span<const std::int64_t> given) {
  std::int64_t all[] = {Polynomial, Start, Last, Reflected};
  std::copy_n(given.begin(), std::min<std::size_t>(given.size(), 4), all);
  return std::make_unique<ParametrisedCrc<Width>>(static_cast<std::uint64_t>(all[0]),
                                                  static_cast<std::uint64_t>(all[1]),
                                                  static_cast<std::uint64_t>(all[2]), all[3] != 0);
}

std::unique_ptr<Sum> make_crc32(std::span<const std::int64_t> given) {
  if (given.empty()) return std::make_unique<Crc32Sum>();
  return make_crc<32, 0x04c11db7, 0xffffffff, 0xffffffff, 1>(given);
}

/// Adler-32 (RFC 1950, section 8.2).
class AdlerSum final : public Sum {
 public:
  void add(ByteView bytes) override {
    for (Byte b : bytes) {
      a_ = (a_ + b) % 65521;
      b_ = (b_ + a_) % 65521;
    }
  }
  Bytes finish() override { return big_endian((b_ << 16) | a_, 4); }

 private:
  std::uint64_t a_ = 1, b_ = 0;
};

template <const EVP_MD* (*Kind)()>
class Digest final : public Sum {
 public:
  Digest() : context_(EVP_MD_CTX_new()) { EVP_DigestInit_ex(context_, Kind(), nullptr); }
  ~Digest() override { EVP_MD_CTX_free(context_); }
  Digest(const Digest&) = delete;
  Digest& operator=(const Digest&) = delete;
  void add(ByteView bytes) override { EVP_DigestUpdate(context_, bytes.data(), bytes.size()); }
  Bytes finish() override {
    Bytes out(EVP_MAX_MD_SIZE);
    unsigned length = 0;
    EVP_DigestFinal_ex(context_, out.data(), &length);
    out.resize(length);
    return out;
  }

 private:
  EVP_MD_CTX* context_;
};

template <typename Made>
std::unique_ptr<Sum> plain(std::span<const std::int64_t>) {
  return std::make_unique<Made>();
}

constexpr SumKind kSums[] = {
    {"sum8", "sum of all bytes, 8 bits", 1, true, 0, plain<UnitSum<1, 1, false>>},
    {"sum16", "sum of all bytes, 16 bits", 2, true, 0, plain<UnitSum<1, 2, false>>},
    {"sum32", "sum of all bytes, 32 bits", 4, true, 0, plain<UnitSum<1, 4, false>>},
    {"words16", "sum of 16-bit words, low byte first, 16 bits", 2, true, 0, plain<UnitSum<2, 2, false>>},
    {"words32", "sum of 32-bit words, low byte first, 32 bits", 4, true, 0, plain<UnitSum<4, 4, false>>},
    {"xor8", "exclusive or of all bytes", 1, true, 0, plain<UnitSum<1, 1, true>>},
    {"xor16", "exclusive or of 16-bit words, low byte first", 2, true, 0, plain<UnitSum<2, 2, true>>},
    {"xor32", "exclusive or of 32-bit words, low byte first", 4, true, 0, plain<UnitSum<4, 4, true>>},
    {"crc16", "CRC-16/ARC; (polynomial, start, final, reflected) make it any other", 2, true, 4,
     make_crc<16, 0x8005, 0, 0, 1>},
    {"crc16_ccitt", "CRC-16 with polynomial 0x1021 from 0xffff, not reflected; parameters as crc16", 2, true,
     4, make_crc<16, 0x1021, 0xffff, 0, 0>},
    {"crc32", "CRC-32 of ISO 3309; parameters as crc16", 4, true, 4, make_crc32},
    {"crc32c", "CRC-32C (Castagnoli); parameters as crc16", 4, true, 4,
     make_crc<32, 0x1edc6f41, 0xffffffff, 0xffffffff, 1>},
    {"adler32", "Adler-32 of RFC 1950", 4, true, 0, plain<AdlerSum>},
    {"md5", "MD5 (RFC 1321)", 16, false, 0, plain<Digest<EVP_md5>>},
    {"sha1", "SHA-1 (FIPS 180-4)", 20, false, 0, plain<Digest<EVP_sha1>>},
    {"sha256", "SHA-256 (FIPS 180-4)", 32, false, 0, plain<Digest<EVP_sha256>>},
    {"sha384", "SHA-384 (FIPS 180-4)", 48, false, 0, plain<Digest<EVP_sha384>>},
    {"sha512", "SHA-512 (FIPS 180-4)", 64, false, 0, plain<Digest<EVP_sha512>>},
};

// ---- hashes of names

constexpr std::uint64_t kFnv32Prime = 16777619, kFnv32Start = 2166136261;
constexpr std::uint64_t kFnv64Prime = 1099511628211u, kFnv64Start = 14695981039346656037u;

template <std::uint64_t Start, std::uint64_t Prime, std::uint64_t Mask, bool XorFirst>
std::uint64_t fnv(std::string_view text) {
  std::uint64_t hash = Start;
  for (char c : text) {
    auto b = static_cast<unsigned char>(c);
    if (XorFirst) hash ^= b;
    hash = (hash * Prime) & Mask;
    if (!XorFirst) hash ^= b;
  }
  return hash;
}

/// hash * 33 + character, or exclusive-or, in 32 bits.
template <bool Xor>
std::uint64_t times33(std::string_view text) {
  std::uint32_t hash = 5381;
  for (char c : text) {
    std::uint32_t product = hash * 33;
    hash = Xor ? product ^ static_cast<unsigned char>(c) : product + static_cast<unsigned char>(c);
  }
  return hash;
}

std::uint64_t sdbm(std::string_view text) {
  std::uint32_t hash = 0;
  for (char c : text) hash = static_cast<unsigned char>(c) + (hash << 6) + (hash << 16) - hash;
  return hash;
}

std::uint64_t one_at_a_time(std::string_view text) {
  std::uint32_t hash = 0;
  for (char c : text) {
    hash += static_cast<unsigned char>(c);
    hash += hash << 10;
    hash ^= hash >> 6;
  }
  hash += hash << 3;
  hash ^= hash >> 11;
  return hash + (hash << 15);
}

/// The hash of symbol tables in ELF (System V ABI, chapter 5).
std::uint64_t elf(std::string_view text) {
  std::uint32_t hash = 0;
  for (char c : text) {
    hash = (hash << 4) + static_cast<unsigned char>(c);
    std::uint32_t high = hash & 0xf0000000;
    hash ^= high >> 24;
    hash &= ~high;
  }
  return hash;
}

std::uint64_t crc_of_name(std::string_view text) {
  return crc32(0, as_bytes(text));
}

std::uint64_t adler_of_name(std::string_view text) {
  AdlerSum sum;
  sum.add(as_bytes(text));
  std::uint64_t value = 0;
  for (Byte b : sum.finish()) value = (value << 8) | b;
  return value;
}

constexpr NameHash kHashes[] = {
    {"crc32", crc_of_name},
    {"adler32", adler_of_name},
    {"fnv1_32", fnv<kFnv32Start, kFnv32Prime, 0xffffffff, false>},
    {"fnv1a_32", fnv<kFnv32Start, kFnv32Prime, 0xffffffff, true>},
    {"fnv1_64", fnv<kFnv64Start, kFnv64Prime, ~std::uint64_t{0}, false>},
    {"fnv1a_64", fnv<kFnv64Start, kFnv64Prime, ~std::uint64_t{0}, true>},
    {"times33", times33<false>},
    {"times33_xor", times33<true>},
    {"sdbm", sdbm},
    {"one_at_a_time", one_at_a_time},
    {"elf", elf},
};

template <typename Table>
auto find_in_table(const Table& table, std::string_view name) {
  auto found =
      std::find_if(std::begin(table), std::end(table), [&](const auto& one) { return one.name == name; });
  return found == std::end(table) ? nullptr : &*found;
}

}  // namespace

std::span<const SumKind> sum_kinds() {
  return kSums;
}
const SumKind* find_sum(std::string_view name) {
  return find_in_table(kSums, name);
}
bool is_damaged_digest(std::string_view sum, std::string_view hex) {
  return find_sum(sum) != nullptr && !hex.empty() && !read_digest(sum, hex);
}

std::optional<Bytes> read_digest(std::string_view sum, std::string_view hex) {
  const SumKind* kind = find_sum(sum);
  auto digest = kind == nullptr ? std::nullopt : from_hex(hex);
  return digest && digest->size() == kind->bytes ? digest : std::nullopt;
}

std::string names_of_hashes() {
  std::string all;
  for (const NameHash& one : name_hashes()) all += (all.empty() ? "" : ", ") + std::string(one.name);
  return all;
}

std::span<const NameHash> name_hashes() {
  return kHashes;
}
const NameHash* find_name_hash(std::string_view name) {
  return find_in_table(kHashes, name);
}

}  // namespace operculum
