#include "io/digest.h"

#include <algorithm>

#include "base/checksum.h"
#include "base/sum_kinds.h"
#include "base/text.h"

namespace operculum {

std::string sha256_of(const Source& source) {
  Sha256 digest;
  constexpr std::uint64_t kBlock = 256 << 10;
  Bytes block(static_cast<std::size_t>(std::clamp<std::uint64_t>(source.size(), 1, kBlock)));
  std::uint64_t at = 0;
  for (;;) {
    std::size_t count = source.read_at(at, block);
    if (count == 0) return digest.finish_hex();
    digest.add(ByteView(block).first(count));
    at += count;
  }
}

std::string stream_digest(Stream& stream, std::string_view name) {
  std::unique_ptr<Sum> sum = find_sum(name)->make({});
  Bytes block(256 * 1024);
  while (std::size_t count = stream.read(block)) sum->add(ByteView(block).first(count));
  return to_hex(sum->finish());
}

StreamSums sums_of_stream(Stream& stream, Sums sums, const std::function<void(std::uint64_t)>& watch) {
  StreamSums out;
  Sha256 digest;
  std::uint32_t crc = 0;
  Bytes block(256 * 1024);
  while (std::size_t count = stream.read(block)) {
    ByteView bytes = ByteView(block).first(count);
    watch(count);
    out.size += count;
    if (sums != Sums::sha256) crc = crc32(crc, bytes);
    if (sums != Sums::crc32) digest.add(bytes);
  }
  if (sums != Sums::sha256) out.crc32 = crc;
  if (sums != Sums::crc32) out.sha256 = digest.finish_hex();
  return out;
}

}  // namespace operculum
