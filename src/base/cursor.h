#pragma once

#include <bit>
#include <concepts>
#include <cstring>
#include <string_view>

#include "base/bytes.h"

namespace operculum {

/// A little-endian number from bytes that are known to be there.
template <std::unsigned_integral T>
T load_little(const Byte* bytes) {
  T value = 0;
  std::memcpy(&value, bytes, sizeof(T));
  if constexpr (std::endian::native == std::endian::little) return value;
  value = 0;
  for (std::size_t i = sizeof(T); i-- > 0;) value = static_cast<T>((std::uint64_t{value} << 8) | bytes[i]);
  return value;
}

/// A run of `Size` bytes whose length was checked at once: what is read within it costs a load and no more.
template <std::size_t Size>
class FixedCursor {
 public:
  explicit FixedCursor(const Byte* bytes) : bytes_(bytes) {}
  std::uint16_t u16le() { return little<std::uint16_t>(); }
  std::uint32_t u32le() { return little<std::uint32_t>(); }
  void skip(std::size_t count) { at_ += count; }

 private:
  template <std::unsigned_integral T>
  T little() {
    if (at_ + sizeof(T) > Size) __builtin_trap();  // never: the compiler sees all positions and drops this
    T value = load_little<T>(bytes_ + at_);
    at_ += sizeof(T);
    return value;
  }
  const Byte* bytes_;
  std::size_t at_ = 0;
};

/// Reads numbers and byte runs from borrowed bytes, front to back, and never past their end: every read
/// checks and throws Malformed with the structure's name, the absolute offset, and how many bytes were
/// expected and left.
class Cursor {
 public:
  /// `what` names the structure for messages ("zip central directory"); `base` is the offset of bytes[0] in
  /// its file.
  Cursor(ByteView bytes, std::string_view what, std::uint64_t base = 0)
      : bytes_(bytes), what_(what), base_(base) {}

  std::uint8_t u8() { return take(1)[0]; }
  std::uint16_t u16le() { return little<std::uint16_t>(); }
  std::uint32_t u32le() { return little<std::uint32_t>(); }
  std::uint64_t u64le() { return little<std::uint64_t>(); }
  std::uint16_t u16be() { return big<std::uint16_t>(); }
  std::uint32_t u32be() { return big<std::uint32_t>(); }
  std::uint64_t u64be() { return big<std::uint64_t>(); }

  /// The next `count` bytes; borrows from the same memory.
  ByteView take(std::uint64_t count) {
    if (count > bytes_.size() - at_) fail_short(count);
    ByteView part = bytes_.subspan(at_, static_cast<std::size_t>(count));
    at_ += static_cast<std::size_t>(count);
    return part;
  }
  /// The next `Size` bytes, checked at once.
  template <std::size_t Size>
  FixedCursor<Size> fixed() {
    return FixedCursor<Size>(take(Size).data());
  }
  std::string_view text(std::uint64_t count) { return as_text(take(count)); }
  void skip(std::uint64_t count) { take(count); }

  std::size_t left() const { return bytes_.size() - at_; }
  bool done() const { return left() == 0; }
  std::size_t position() const { return at_; }          ///< within the bytes given
  std::uint64_t offset() const { return base_ + at_; }  ///< within the file, where the base is known

  /// Throws Malformed: "zip central directory at offset 70: expected ..., found ...".
  [[noreturn]] void fail(std::string_view expected, std::string_view found) const;

 private:
  template <std::unsigned_integral T>
  T little() {
    return load_little<T>(take(sizeof(T)).data());
  }
  template <std::unsigned_integral T>
  T big() {
    ByteView raw = take(sizeof(T));
    T value = 0;
    for (Byte b : raw) value = static_cast<T>((std::uint64_t{value} << 8) | b);
    return value;
  }
  [[noreturn]] void fail_short(std::uint64_t count) const;

  ByteView bytes_;
  std::string_view what_;
  std::uint64_t base_;
  std::size_t at_ = 0;
};

}  // namespace operculum
