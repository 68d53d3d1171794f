#include "format/filesystem/btrfs_sums.h"

#include <blake2.h>
#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"

namespace operculum::btrfs {
namespace {

constexpr std::size_t kWindow = 256;  // sectors whose checksums are found at once

}  // namespace

std::size_t sum_size(std::uint16_t type) {
  constexpr std::size_t kSizes[] = {4, 8, 32, 32};
  return kSizes[type];
}

bool has_sum(std::uint16_t type, ByteView bytes, ByteView sum) {
  switch (type) {
    case kCrc32c:
      return sum_fits(static_cast<std::uint32_t>(~crc32c(~0U, bytes)),
                      load_little<std::uint32_t>(sum.data()));
    case kXxhash:
      return sum_fits(XXH64(bytes.data(), bytes.size(), 0), load_little<std::uint64_t>(sum.data()));
    case kSha256:
      return to_hex(sum.first(32)) == sha256_hex(bytes);
    default: {
      Byte own[32];
      blake2b(own, bytes.data(), nullptr, sizeof own, bytes.size(), 0);
      return std::equal(std::begin(own), std::end(own), sum.begin());
    }
  }
}

std::size_t SummedData::read_at(std::uint64_t logical, ByteSpan out) const {
  std::size_t done = 0;
  while (done < out.size()) {
    std::uint64_t at = logical + done;
    std::size_t within = static_cast<std::size_t>(at % sector_), left = out.size() - done;
    if (within == 0 && left >= sector_) {
      ByteSpan whole = out.subspan(done, std::min(left / sector_, kWindow) * sector_);
      read_sectors(at, whole);
      done += whole.size();
      continue;
    }
    Bytes one(sector_);
    read_sectors(at - within, one);
    std::size_t part = std::min(sector_ - within, left);
    std::copy_n(one.begin() + static_cast<std::ptrdiff_t>(within), part,
                out.begin() + static_cast<std::ptrdiff_t>(done));
    done += part;
  }
  return done;
}

void SummedData::read_sectors(std::uint64_t logical, ByteSpan out) const {
  try {
    chunks_->read(logical, out, 0);
  } catch (const Malformed&) {
    std::size_t copies = chunks_->copies(logical);
    if (copies < 2) throw;
    for (std::size_t copy = 1;; ++copy) {
      try {
        chunks_->read(logical, out, copy);
        break;
      } catch (const Malformed&) {
        if (copy + 1 == copies) throw;
      }
    }
  }
  compare(logical, out);
}

void SummedData::compare(std::uint64_t logical, ByteSpan out) const {
  const std::size_t size = sum_size(type_), window = kWindow * sector_;
  for (std::size_t at = 0; at < out.size(); at += sector_) {
    std::uint64_t place = logical + at, begin = place / window * window;
    std::size_t index = static_cast<std::size_t>((place - begin) / sector_);
    // a byte for each sector that tells whether there is one, then the checksums
    BytesPtr sums = sums_.get(begin, [&] {
      SectorSums found = find_(begin, kWindow);
      Bytes packed(kWindow);
      for (std::size_t i = 0; i < kWindow; ++i) packed[i] = found.there[i] ? 1 : 0;
      packed.insert(packed.end(), found.sums.begin(), found.sums.end());
      return packed;
    });
    if ((*sums)[index] == 0) continue;  // of files that are written in place there are none
    ByteView sum = ByteView(*sums).subspan(kWindow + index * size, size);
    ByteSpan sector = out.subspan(at, sector_);
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
