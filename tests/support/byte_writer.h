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
  ByteWriter& u32be(std::uint64_t v) { return u16be(v >> 16).u16be(v); }
  ByteWriter& u64be(std::uint64_t v) { return u32be(v >> 32).u32be(v); }
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

/// Bytes of a fixed size to be filled in anywhere: a disk.
class Canvas {
 public:
  explicit Canvas(std::size_t size) : bytes_(size) {}
  Canvas(Bytes bytes) : bytes_(std::move(bytes)) {}
  void little(std::size_t at, std::uint64_t value, std::size_t width) {
    for (std::size_t i = 0; i < width; ++i) bytes_.at(at + i) = static_cast<Byte>(value >> (8 * i));
  }
  void big(std::size_t at, std::uint64_t value, std::size_t width) {
    for (std::size_t i = 0; i < width; ++i)
      bytes_.at(at + i) = static_cast<Byte>(value >> (8 * (width - 1 - i)));
  }
  void u16(std::size_t at, std::uint64_t value) { little(at, value, 2); }
  void u32(std::size_t at, std::uint64_t value) { little(at, value, 4); }
  void u64(std::size_t at, std::uint64_t value) { little(at, value, 8); }
  void put(std::size_t at, ByteView bytes) {
    if (bytes_.size() < at + bytes.size()) bytes_.resize(at + bytes.size());
    for (std::size_t i = 0; i < bytes.size(); ++i) bytes_[at + i] = bytes[i];
  }
  void text(std::size_t at, std::string_view text) { put(at, as_bytes(text)); }
  Byte& operator[](std::size_t at) { return bytes_.at(at); }
  ByteView part(std::size_t at, std::size_t count) const { return ByteView(bytes_).subspan(at, count); }
  std::size_t size() const { return bytes_.size(); }
  Bytes take() { return std::move(bytes_); }

 private:
  Bytes bytes_;
};

inline Bytes to_bytes(std::string_view text) {
  return Bytes(text.begin(), text.end());
}

}  // namespace operculum::test
