#include "format/filesystem/btrfs_sums.h"

#include <blake2.h>
#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"

namespace operculum::btrfs {

std::size_t sum_size(std::uint16_t type) {
  constexpr std::size_t kSizes[] = {4, 8, 32, 32};
  return kSizes[type];
}

bool has_sum(std::uint16_t type, ByteView bytes, ByteView sum) {
  switch (type) {
    case crc32c_sum:
      return sum_fits(static_cast<std::uint32_t>(~crc32c(~0U, bytes)),
                      load_little<std::uint32_t>(sum.data()));
    case xxhash_sum:
      return sum_fits(XXH64(bytes.data(), bytes.size(), 0), load_little<std::uint64_t>(sum.data()));
    case sha256_sum:
      return to_hex(sum.first(32)) == sha256_hex(bytes);
    default: {
      Byte own[32];
      blake2b(own, bytes.data(), nullptr, sizeof own, bytes.size(), 0);
      return std::equal(std::begin(own), std::end(own), sum.begin());
    }
  }
}

void SummedData::read_units(std::uint64_t logical, ByteSpan out) const {
  chunks_->any_copy(logical, [&](std::size_t copy) { chunks_->read(logical, out, copy); });
  compare(logical, out);
}

/// A byte for each sector of a window that tells whether there is a checksum, then the checksums.
BytesPtr SummedData::sums_of_window(std::uint64_t begin) const {
  return sums_.get(begin, [&] {
    SectorSums found = find_(begin, kWindow);
    Bytes packed(kWindow);
    for (std::size_t i = 0; i < kWindow; ++i) packed[i] = found.there[i] ? 1 : 0;
    packed.insert(packed.end(), found.sums.begin(), found.sums.end());
    return packed;
  });
}

void SummedData::compare(std::uint64_t logical, ByteSpan out) const {
  const std::size_t size = sum_size(type_), window = kWindow * unit();
  BytesPtr sums;
  for (std::size_t at = 0; at < out.size(); at += unit()) {
    std::uint64_t place = logical + at, begin = place / window * window;
    std::size_t index = static_cast<std::size_t>((place - begin) / unit());
    if (!sums || index == 0) sums = sums_of_window(begin);
    if ((*sums)[index] == 0) continue;  // of files that are written in place there are none
    ByteView sum = ByteView(*sums).subspan(kWindow + index * size, size);
    ByteSpan sector = out.subspan(at, unit());
    bool right = has_sum(type_, sector, sum);
    for (std::size_t copy = 1; !right && copy < chunks_->copies(place); ++copy) {
      chunks_->read(place, sector, copy);
      right = has_sum(type_, sector, sum);
    }
    if (!right)
      throw Malformed(fmt::format("btrfs: the sector at the address {} does not fit its checksum", place));
  }
}

}  // namespace operculum::btrfs
