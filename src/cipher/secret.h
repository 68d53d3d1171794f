#pragma once

#include "base/bytes.h"

namespace operculum {

/// Bytes of a key: wiped when they are no longer needed. Not copied, so that there is one of each to wipe.
class Secret {
 public:
  Secret() = default;
  explicit Secret(std::size_t size) : bytes_(size) {}
  ~Secret() { wipe(); }
  Secret(const Secret&) = delete;
  Secret& operator=(const Secret&) = delete;
  Secret(Secret&& other) noexcept : bytes_(std::move(other.bytes_)) { other.bytes_.clear(); }
  Secret& operator=(Secret&& other) noexcept {
    wipe();
    bytes_ = std::move(other.bytes_);
    other.bytes_.clear();
    return *this;
  }

  ByteView view() const { return bytes_; }
  ByteSpan span() { return bytes_; }
  std::size_t size() const { return bytes_.size(); }

 private:
  void wipe() {
    volatile Byte* at = bytes_.data();  // volatile: the compiler must not see that nobody reads the zeros
    for (std::size_t i = 0; i < bytes_.size(); ++i) at[i] = 0;
  }

  Bytes bytes_;
};

}  // namespace operculum
