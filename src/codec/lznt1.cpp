#include "codec/lznt1.h"

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"

namespace operculum {
namespace {

constexpr std::size_t kChunk = 4096;

[[noreturn]] void fail() {
  throw Malformed("an LZNT1 chunk does not decode; the data is damaged");
}

/// One packed chunk: flag bytes tell which of the next eight items are copies. How the bits of a copy are
/// divided between distance and length depends on how far the chunk is.
std::size_t decode_chunk(ByteView packed, ByteSpan out) {
  std::size_t at = 0, done = 0;
  while (at < packed.size()) {
    unsigned flags = packed[at++];
    for (unsigned bit = 0; bit < 8 && at < packed.size(); ++bit, flags >>= 1) {
      if ((flags & 1) == 0) {
        if (done == out.size()) fail();
        out[done++] = packed[at++];
        continue;
      }
      if (at + 2 > packed.size() || done == 0) fail();
      unsigned word = load_little<std::uint16_t>(packed.data() + at), length_bits = 12;
      at += 2;
      for (std::size_t reach = done - 1; reach >= 16; reach >>= 1) --length_bits;
      std::size_t distance = (word >> length_bits) + 1, length = (word & ((1U << length_bits) - 1)) + 3;
      if (distance > done || length > out.size() - done) fail();
      for (std::size_t i = 0; i < length; ++i, ++done) out[done] = out[done - distance];
    }
  }
  return done;
}

}  // namespace

void decode_lznt1(ByteView packed, ByteSpan out) {
  std::fill(out.begin(), out.end(), Byte{0});
  std::size_t at = 0;
  for (std::size_t done = 0; done < out.size() && at + 2 <= packed.size(); done += kChunk) {
    unsigned header = load_little<std::uint16_t>(packed.data() + at);
    if (header == 0) return;
    at += 2;
    std::size_t size = (header & 0xFFF) + 1;
    if (size > packed.size() - at) fail();
    ByteSpan room = out.subspan(done, std::min(kChunk, out.size() - done));
    ByteView chunk = packed.subspan(at, size);
    if ((header & 0x8000) != 0) {
      decode_chunk(chunk, room);
    } else {
      std::copy_n(chunk.begin(), std::min(size, room.size()), room.begin());
    }
    at += size;
  }
}

}  // namespace operculum
