#pragma once

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
  bool may_lie_in(std::uint64_t size) const;

 private:
  SourcePtr bytes_;
  std::uint32_t crc32_ = 0;
  mutable std::once_flag summed_, packed_;
  mutable std::string sha256_;
  mutable std::uint64_t least_container_ = 0;
};

}  // namespace operculum
