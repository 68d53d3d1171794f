#pragma once

#include <functional>

#include "format/filesystem/btrfs_chunks.h"
#include "io/aligned_source.h"
#include "io/block_cache.h"

namespace operculum::btrfs {

/// csum_type of the superblock.
enum SumType : std::uint16_t { crc32c_sum = 0, xxhash_sum = 1, sha256_sum = 2, blake2b_sum = 3 };

/// Bytes of a checksum.
std::size_t sum_size(std::uint16_t type);
/// Whether bytes have that checksum.
bool has_sum(std::uint16_t type, ByteView bytes, ByteView sum);
/// What is told where it has not: " (stored ..., computed ...)".
std::string told_sum(std::uint16_t type, ByteView bytes, ByteView sum);

/// Checksums of a stretch of sectors, `size` bytes each; `there` tells for which there are some.
struct SectorSums {
  Bytes sums;
  std::vector<bool> there;
};

/// The data of files by logical address: each sector is compared with its checksum, and another copy is read
/// where it differs.
class SummedData final : public AlignedSource {
 public:
  /// Finds the checksums of `count` sectors from an address on.
  using Find = std::function<SectorSums(std::uint64_t logical, std::size_t count)>;

  SummedData(std::shared_ptr<const Chunks> chunks, std::uint16_t type, std::size_t sector, Find find)
      : AlignedSource(sector, kWindow), chunks_(std::move(chunks)), type_(type), find_(std::move(find)) {}

  std::uint64_t size() const override { return UINT64_MAX; }

 protected:
  void read_units(std::uint64_t logical, ByteSpan out) const override;

 private:
  static constexpr std::size_t kWindow = 256;  ///< sectors whose checksums are found at once

  BytesPtr sums_of_window(std::uint64_t begin) const;
  void compare(std::uint64_t logical, ByteSpan out) const;

  std::shared_ptr<const Chunks> chunks_;
  std::uint16_t type_;
  Find find_;
  mutable BlockCache sums_{4 << 20};
};

}  // namespace operculum::btrfs
