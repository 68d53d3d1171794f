#include "format/filesystem/btrfs_sums.h"

#include <blake2.h>
#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"

namespace operculum::btrfs {

namespace {

constexpr std::size_t kLongestSum = 32;  // bytes

/// The sum of some bytes, as it is stored; returns its size.
std::size_t make_sum(std::uint16_t type, ByteView bytes, Byte* out) {
  switch (type) {
    case crc32c_sum:
      store_number(out, sizeof(std::uint32_t), ~crc32c(~0U, bytes));
      return sizeof(std::uint32_t);
    case xxhash_sum:
      store_number(out, sizeof(std::uint64_t), XXH64(bytes.data(), bytes.size(), 0));
      return sizeof(std::uint64_t);
    case sha256_sum: {
      Bytes own = from_hex(sha256_hex(bytes)).value();
      std::copy(own.begin(), own.end(), out);
      return own.size();
    }
    default:
      blake2b(out, bytes.data(), nullptr, kLongestSum, bytes.size(), 0);
      return kLongestSum;
  }
}

}  // namespace

std::size_t sum_size(std::uint16_t type) {
  constexpr std::size_t kSizes[] = {4, 8, 32, 32};
  return kSizes[type];
}

bool has_sum(std::uint16_t type, ByteView bytes, ByteView sum) {
  Byte own[kLongestSum];
  std::size_t size = make_sum(type, bytes, own);
  return sum_fits(std::equal(own, own + size, sum.begin()) ? 1 : 0, 1);
}

std::string told_sum(std::uint16_t type, ByteView bytes, ByteView sum) {
  Byte own[kLongestSum];
  std::size_t size = make_sum(type, bytes, own);
  return fmt::format(" (stored {}, computed {})", to_hex(sum.first(size)), to_hex(ByteView(own, size)));
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
      throw Malformed(fmt::format("btrfs: the sector at the address {} does not fit its checksum{}", place,
                                  told_sum(type_, sector, sum)));
  }
}

}  // namespace operculum::btrfs
