#include "io/digest.h"

#include "base/checksum.h"

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

}  // namespace operculum
