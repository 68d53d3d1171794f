#include "io/digest.h"

#include "base/checksum.h"
#include "base/sum_kinds.h"
#include "base/text.h"

namespace operculum {

std::string sha256_of(const Source& source) {
  Sha256 digest;
  Bytes block(256 * 1024);
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

}  // namespace operculum
