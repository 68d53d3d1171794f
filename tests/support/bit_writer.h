#pragma once

#include "base/bytes.h"

namespace operculum::test {

/// Bits into bytes, in either order.
class BitWriter {
 public:
  explicit BitWriter(bool high_first = false) : high_first_(high_first) {}
  /// A number in the order of the bytes' bits.
  BitWriter& put(std::uint32_t value, unsigned bits) {
    for (unsigned i = 0; i < bits; ++i) bit(value >> (high_first_ ? bits - 1 - i : i) & 1);
    return *this;
  }
  /// A prefix code: its highest bit first, whatever the order.
  BitWriter& code(std::uint32_t value, unsigned bits) {
    while (bits-- > 0) bit(value >> bits & 1);
    return *this;
  }
  void bit(unsigned one) {
    if (count_ % 8 == 0) bytes_.push_back(0);
    bytes_.back() |= static_cast<Byte>(one << (high_first_ ? 7 - count_ % 8 : count_ % 8));
    ++count_;
  }
  Bytes take() { return bytes_; }

 private:
  bool high_first_;
  std::size_t count_ = 0;
  Bytes bytes_;
};

}  // namespace operculum::test
