#include "base/checksum.h"

#include <libdeflate.h>
#include <openssl/evp.h>
#include <zlib.h>

#include "base/text.h"

namespace operculum {

std::uint32_t crc32(std::uint32_t crc, ByteView bytes) {
  return libdeflate_crc32(crc, bytes.data(), bytes.size());
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
