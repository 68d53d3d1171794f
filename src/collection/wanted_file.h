#pragma once

#include <atomic>
#include <mutex>
#include <string>

#include "io/source.h"

namespace operculum {

/// A file whose bytes are looked for. Its size and CRC-32 are known at once, for they speak against most
/// files without reading them; what only few searches ask for is worked out when it is asked for first. Safe
/// to share between threads.
class WantedFile {
 public:
  /// Throws what reading the bytes throws.
  explicit WantedFile(SourcePtr bytes);

  std::uint64_t size() const { return bytes_->size(); }  ///< in bytes
  std::uint32_t crc32() const { return crc32_; }
  const std::string& sha256() const;  ///< 64 lower-case digits

  /// Whether `part` stands at `offset` of it.
  bool has(std::uint64_t offset, ByteView part) const;

  /// Whether a container of `size` bytes may hold it, packed.
  bool may_lie_in(std::uint64_t size) const {
    if (size >= kFront) return true;  // whatever its front is packed to
    std::uint64_t least = least_container_.load(std::memory_order_relaxed);
    return size >= (least != kNotKnown ? least : least_container());
  }

 private:
  static constexpr std::uint64_t kFront = 64 << 10;  // bytes that are packed to see how small they get
  static constexpr std::uint64_t kNotKnown = UINT64_MAX;

  std::uint64_t least_container() const;

  SourcePtr bytes_;
  std::uint32_t crc32_ = 0;
  mutable std::once_flag summed_;
  mutable std::string sha256_;
  mutable std::atomic<std::uint64_t> least_container_ = kNotKnown;  ///< bytes; what is smaller cannot hold it
};

}  // namespace operculum
