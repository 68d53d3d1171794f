#include "cipher/xts.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "cipher/keyed_cipher.h"

namespace operculum {
namespace {

constexpr std::size_t kXtsBlock = 16, kMostUnit = 16 << 20;  // bytes

const EVP_CIPHER* cipher_for(ByteView key) {
  if (key.size() == 32) return EVP_aes_128_xts();
  if (key.size() == 64) return EVP_aes_256_xts();
  throw NeedsKey(fmt::format(
      "a key of {} bytes does not fit AES in XTS, which wants two of 16 or 32 bytes: 32 or 64", key.size()));
}

class XtsStream final : public Stream {
 public:
  XtsStream(StreamPtr inner, ByteView key, const XtsUnits& units, bool encrypt)
      : inner_(std::move(inner)), cipher_(cipher_for(key), key, encrypt), number_(units.first) {
    if (units.size < kXtsBlock || units.size > kMostUnit)
      throw Malformed(fmt::format("XTS with units of {} bytes", units.size));
    number_.resize(kXtsBlock);
    unit_.resize(units.size);
  }

  std::size_t read(ByteSpan out) override {
    if (at_ == ready_ && !fill()) return 0;
    std::size_t count = std::min(out.size(), ready_ - at_);
    std::copy_n(unit_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  bool fill() {
    ready_ = read_fully(*inner_, unit_);
    at_ = 0;
    if (ready_ < kXtsBlock) return ready_ > 0;
    cipher_.with([&](EVP_CIPHER_CTX* context) {
      int length = 0;
      must_take("unit", EVP_CipherInit_ex(context, nullptr, nullptr, nullptr, number_.data(), -1) == 1 &&
                            EVP_CipherUpdate(context, unit_.data(), &length, unit_.data(),
                                             static_cast<int>(ready_)) == 1);
    });
    for (Byte& byte : number_) {
      if (++byte != 0) break;
    }
    return true;
  }

  StreamPtr inner_;
  KeyedCipher cipher_;
  Bytes number_, unit_;
  std::size_t at_ = 0, ready_ = 0;
};

}  // namespace

StreamPtr open_xts(StreamPtr stored, ByteView key, const XtsUnits& units) {
  return std::make_unique<XtsStream>(std::move(stored), key, units, false);
}
StreamPtr seal_xts(StreamPtr plain, ByteView key, const XtsUnits& units) {
  return std::make_unique<XtsStream>(std::move(plain), key, units, true);
}

}  // namespace operculum
