#include "codec/adc.h"

#include <algorithm>

#include "base/error.h"

namespace operculum {

std::size_t decode_adc(ByteView packed, ByteSpan out) {
  auto fail = [] { throw Malformed("an ADC block does not decode; the data is damaged"); };
  std::size_t at = 0, done = 0;
  while (at < packed.size() && done < out.size()) {
    unsigned first = packed[at];
    if ((first & 0x80) != 0) {  // plain bytes
      std::size_t count = (first & 0x7F) + 1;
      if (count > packed.size() - at - 1 || count > out.size() - done) fail();
      std::copy_n(packed.begin() + static_cast<std::ptrdiff_t>(at + 1), count,
                  out.begin() + static_cast<std::ptrdiff_t>(done));
      at += count + 1;
      done += count;
      continue;
    }
    bool is_long = (first & 0x40) != 0;
    std::size_t width = is_long ? 3 : 2;
    if (width > packed.size() - at) fail();
    std::size_t length = is_long ? (first & 0x3F) + 4 : ((first >> 2) & 0xF) + 3;
    std::size_t distance =
        is_long ? packed[at + 1] * 256U + packed[at + 2] : (first & 3) * 256U + packed[at + 1];
    ++distance;
    if (distance > done || length > out.size() - done) fail();
    for (std::size_t i = 0; i < length; ++i, ++done) out[done] = out[done - distance];
    at += width;
  }
  return done;
}

}  // namespace operculum
