#include "collection/wanted_file.h"

#include <algorithm>

#include "codec/codec.h"
#include "io/digest.h"
#include "io/stream.h"

namespace operculum {
namespace {

/// No codec in use packs ordinary files to less than a sixth of what quick deflate makes of them: a container
/// that is smaller than that cannot hold one.
constexpr std::uint64_t kBestPacking = 6;
constexpr std::size_t kCompared = 64 << 10;  // bytes compared at a time

}  // namespace

WantedFile::WantedFile(SourcePtr bytes) : bytes_(std::move(bytes)) {
  StreamPtr stream = make_source_stream(bytes_);
  crc32_ = sums_of_stream(*stream, Sums::crc32, [](std::uint64_t) {}).crc32.value_or(0);
}

const std::string& WantedFile::sha256() const {
  std::call_once(summed_, [this] { sha256_ = sha256_of(*bytes_); });
  return sha256_;
}

bool WantedFile::has(std::uint64_t offset, ByteView part) const {
  Bytes own(std::min(part.size(), kCompared));
  while (!part.empty()) {
    std::size_t count = std::min(part.size(), own.size());
    if (bytes_->read_at(offset, ByteSpan(own).first(count)) != count) return false;
    if (!std::equal(part.begin(), part.begin() + static_cast<std::ptrdiff_t>(count), own.begin()))
      return false;
    part = part.subspan(count);
    offset += count;
  }
  return true;
}

/// Several threads may work it out at once; they come to the same.
std::uint64_t WantedFile::least_container() const {
  const PackSettings kQuick{.level = 1, .whole_buffer = true};
  std::uint64_t least = encode("deflate", read_up_to(*bytes_, 0, kFront), kQuick).size() / kBestPacking;
  least_container_.store(least, std::memory_order_relaxed);
  return least;
}

}  // namespace operculum
