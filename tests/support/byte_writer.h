#pragma once

#include <string_view>

#include "base/bytes.h"

namespace operculum::test {

/// Builds binary input: numbers, text and byte runs one after another.
class ByteWriter {
 public:
  ByteWriter& u8(std::uint64_t v) { return little(v, 1); }
  ByteWriter& u16(std::uint64_t v) { return little(v, 2); }
  ByteWriter& u32(std::uint64_t v) { return little(v, 4); }
  ByteWriter& u64(std::uint64_t v) { return little(v, 8); }
  ByteWriter& u16be(std::uint64_t v) { return u8(v >> 8).u8(v); }
  ByteWriter& text(std::string_view t) {
    bytes_.insert(bytes_.end(), t.begin(), t.end());
    return *this;
  }
  ByteWriter& bytes(ByteView b) {
    bytes_.insert(bytes_.end(), b.begin(), b.end());
    return *this;
  }
  ByteWriter& zeros(std::size_t count) {
    bytes_.resize(bytes_.size() + count);
    return *this;
  }
  /// Zeros up to a multiple of `alignment`.
  ByteWriter& align(std::size_t alignment) {
    return zeros((alignment - bytes_.size() % alignment) % alignment);
  }

  std::size_t size() const { return bytes_.size(); }
  Bytes take() { return std::move(bytes_); }
  const Bytes& view() const { return bytes_; }

 private:
  ByteWriter& little(std::uint64_t v, int count) {
    for (int i = 0; i < count; ++i) bytes_.push_back(static_cast<Byte>(v >> (8 * i)));
    return *this;
  }
  Bytes bytes_;
};

inline Bytes to_bytes(std::string_view text) {
  return Bytes(text.begin(), text.end());
}

}  // namespace operculum::test
