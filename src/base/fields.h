#pragma once

#include <fmt/format.h>

#include <bit>

#include "base/cursor.h"
#include "base/error.h"

namespace operculum {

/// Numbers at fixed places of a structure in borrowed bytes, in one byte order. Every read is checked: beyond
/// the end it throws Malformed with the structure's name and offset.
template <std::endian Order>
class Fields {
 public:
  /// `what` names the structure for messages; `base` is the offset of bytes[0] in its file.
  Fields(ByteView bytes, std::string_view what, std::uint64_t base = 0)
      : bytes_(bytes), what_(what), base_(base) {}

  std::uint8_t u8(std::size_t at) const { return bytes(at, 1)[0]; }
  std::uint16_t u16(std::size_t at) const { return number<std::uint16_t>(at); }
  std::uint32_t u32(std::size_t at) const { return number<std::uint32_t>(at); }
  std::uint64_t u64(std::size_t at) const { return number<std::uint64_t>(at); }

  ByteView bytes(std::size_t at, std::size_t count) const {
    if (at > bytes_.size() || count > bytes_.size() - at) {
      throw Malformed(fmt::format("{} at offset {}: expected {} bytes from byte {} on, found {}", what_,
                                  base_, count, at, bytes_.size() - std::min(at, bytes_.size())));
    }
    return bytes_.subspan(at, count);
  }
  std::string_view text(std::size_t at, std::size_t count) const { return as_text(bytes(at, count)); }
  /// From byte `at` to the end.
  Fields from(std::size_t at) const {
    return {bytes(at, bytes_.size() - std::min(at, bytes_.size())), what_, base_ + at};
  }

  std::size_t size() const { return bytes_.size(); }
  ByteView all() const { return bytes_; }
  std::uint64_t base() const { return base_; }

 private:
  template <std::unsigned_integral T>
  T number(std::size_t at) const {
    const Byte* raw = bytes(at, sizeof(T)).data();
    if constexpr (Order == std::endian::little) return load_little<T>(raw);
    T value = 0;
    for (std::size_t i = 0; i < sizeof(T); ++i) value = static_cast<T>((std::uint64_t{value} << 8) | raw[i]);
    return value;
  }

  ByteView bytes_;
  std::string_view what_;
  std::uint64_t base_;
};

using LittleFields = Fields<std::endian::little>;
using BigFields = Fields<std::endian::big>;

}  // namespace operculum
