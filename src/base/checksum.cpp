#include "base/checksum.h"

#include <libdeflate.h>
#include <openssl/evp.h>
#include <zlib.h>

#include <algorithm>
#include <cstring>

#include "base/text.h"

namespace operculum {

std::uint32_t crc32(std::uint32_t crc, ByteView bytes) {
  return libdeflate_crc32(crc, bytes.data(), bytes.size());
}

namespace {

constexpr std::array<std::uint32_t, 256> make_castagnoli() {
  std::array<std::uint32_t, 256> table{};
  for (std::uint32_t i = 0; i < 256; ++i) {
    std::uint32_t value = i;
    for (int bit = 0; bit < 8; ++bit) value = (value >> 1) ^ ((value & 1) != 0 ? 0x82F63B78U : 0U);
    table[i] = value;
  }
  return table;
}
constexpr auto kCastagnoli = make_castagnoli();

std::uint32_t crc32c_by_table(std::uint32_t crc, ByteView bytes) {
  for (Byte b : bytes) crc = kCastagnoli[(crc ^ b) & 0xFF] ^ (crc >> 8);
  return crc;
}

#if defined(__x86_64__)
__attribute__((target("sse4.2"))) std::uint32_t crc32c_by_instruction(std::uint32_t crc, ByteView bytes) {
  std::uint64_t sum = crc;
  std::size_t at = 0;
  for (; at + 8 <= bytes.size(); at += 8) {
    std::uint64_t word = 0;
    std::memcpy(&word, bytes.data() + at, 8);
    sum = __builtin_ia32_crc32di(sum, word);
  }
  return crc32c_by_table(static_cast<std::uint32_t>(sum), bytes.subspan(at));
}
#endif

}  // namespace

std::uint32_t crc32c(std::uint32_t crc, ByteView bytes) {
#if defined(__x86_64__)
  static const bool kHasInstruction = __builtin_cpu_supports("sse4.2") != 0;
  if (kHasInstruction) return crc32c_by_instruction(crc, bytes);
#endif
  return crc32c_by_table(crc, bytes);
}

std::uint32_t crc32_combine(std::uint32_t first, std::uint32_t second, std::uint64_t second_length) {
  return static_cast<std::uint32_t>(crc32_combine64(first, second, static_cast<z_off64_t>(second_length)));
}

struct Sha256::State {
  EVP_MD_CTX* context = EVP_MD_CTX_new();
  ~State() { EVP_MD_CTX_free(context); }
};

Sha256::Sha256() : state_(std::make_unique<State>()) {
  EVP_DigestInit_ex(state_->context, EVP_sha256(), nullptr);
}
Sha256::~Sha256() = default;

void Sha256::add(ByteView bytes) {
  EVP_DigestUpdate(state_->context, bytes.data(), bytes.size());
}

void Sha256::add_zeros(std::uint64_t count) {
  static constexpr std::array<Byte, 64 * 1024> kZeros{};
  for (std::uint64_t left = count; left > 0;) {
    auto part = static_cast<std::size_t>(std::min<std::uint64_t>(left, kZeros.size()));
    add(ByteView(kZeros).first(part));
    left -= part;
  }
}

std::string Sha256::finish_hex() {
  std::array<Byte, 32> digest{};
  EVP_DigestFinal_ex(state_->context, digest.data(), nullptr);
  return to_hex(digest);
}

std::string sha256_hex(ByteView bytes) {
  Sha256 digest;
  digest.add(bytes);
  return digest.finish_hex();
}

}  // namespace operculum
