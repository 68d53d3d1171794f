#include "cipher/zip_traditional.h"

#include <zlib.h>

#include "base/error.h"

namespace operculum {
namespace {

std::uint32_t crc_step(std::uint32_t crc, Byte b) {
  static const z_crc_t* table = get_crc_table();
  return (crc >> 8) ^ static_cast<std::uint32_t>(table[(crc ^ b) & 0xff]);
}

class TraditionalStream final : public Stream {
 public:
  TraditionalStream(StreamPtr stored, std::string_view password)
      : stored_(std::move(stored)), cipher_(password) {}
  std::size_t read(ByteSpan out) override {
    if (!begun_) {
      Byte header[ZipTraditional::kHeader];
      if (read_fully(*stored_, header) < sizeof header)
        throw CutShort("the encrypted data ends within its first 12 bytes");
      for (Byte b : header) cipher_.decrypt(b);
      begun_ = true;
    }
    std::size_t count = stored_->read(out);
    for (Byte& b : out.first(count)) b = cipher_.decrypt(b);
    return count;
  }

 private:
  StreamPtr stored_;
  ZipTraditional cipher_;
  bool begun_ = false;
};

}  // namespace

ZipTraditional::ZipTraditional(std::string_view password) {
  for (char c : password) step(static_cast<Byte>(c));
}

void ZipTraditional::step(Byte plain) {
  keys_[0] = crc_step(keys_[0], plain);
  keys_[1] = (keys_[1] + (keys_[0] & 0xff)) * 134775813 + 1;
  keys_[2] = crc_step(keys_[2], static_cast<Byte>(keys_[1] >> 24));
}

Byte ZipTraditional::key_byte() const {
  std::uint32_t word = (keys_[2] | 2) & 0xffff;
  return static_cast<Byte>((word * (word ^ 1)) >> 8);
}

Byte ZipTraditional::decrypt(Byte stored) {
  Byte plain = stored ^ key_byte();
  step(plain);
  return plain;
}

Byte ZipTraditional::encrypt(Byte plain) {
  Byte stored = plain ^ key_byte();
  step(plain);
  return stored;
}

bool ZipTraditional::fits(std::string_view password, ByteView header, Byte check) {
  ZipTraditional cipher(password);
  Byte last = 0;
  for (Byte b : header) last = cipher.decrypt(b);
  return header.size() == kHeader && last == check;
}

StreamPtr open_zip_traditional(StreamPtr stored, std::string_view password) {
  return std::make_unique<TraditionalStream>(std::move(stored), password);
}

}  // namespace operculum
