// LZVN has no written specification; its items are those of the published reference decoder of LZFSE, which
// falls back to it for small inputs.
#include "codec/lzvn.h"

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"

namespace operculum {
namespace {

/// What one item says: so many bytes as they are, then a copy from so far back.
struct Item {
  std::size_t width = 1;  // of the item itself
  std::size_t literals = 0, match = 0;
  std::size_t distance = 0;  // 0: the last one
  bool last = false;
};

[[noreturn]] void fail() {
  throw Malformed("an LZVN block does not decode; the data is damaged");
}

Item read_item(ByteView at) {
  unsigned first = at[0];
  auto byte = [&](std::size_t i) -> unsigned {
    if (i >= at.size()) fail();
    return at[i];
  };
  auto word = [&](std::size_t i) { return byte(i) | (byte(i + 1) << 8); };
  unsigned literals = first >> 6, match = ((first >> 3) & 7) + 3, low = first & 7;
  if (first == 0x06) return {.last = true};
  if (first == 0x0E || first == 0x16) return {};
  if (first >= 0xF0)
    return first == 0xF0 ? Item{.width = 2, .match = byte(1) + 16U} : Item{.match = first & 15};
  if (first >= 0xE0)
    return first == 0xE0 ? Item{.width = 2, .literals = byte(1) + 16U} : Item{.literals = first & 15};
  if (first >= 0xA0 && first < 0xC0) {
    unsigned rest = word(1);
    return {3, (first >> 3) & 3, (((first & 7) << 2) | (rest & 3)) + 3U, rest >> 2};
  }
  if ((first >= 0x70 && first < 0x80) || first >= 0xD0 || (literals == 0 && low == 6)) fail();
  if (low == 7) return {3, literals, match, word(1)};
  if (low == 6) return {1, literals, match, 0};
  return {2, literals, match, (low << 8) | byte(1)};
}

}  // namespace

std::size_t decode_lzvn(ByteView packed, ByteSpan out, std::size_t done) {
  std::size_t at = 0, distance = 0;
  while (at < packed.size() && done < out.size()) {
    Item item = read_item(packed.subspan(at));
    if (item.last) break;
    at += item.width;
    if (item.literals > packed.size() - at) fail();
    std::size_t count = std::min(item.literals, out.size() - done);
    std::copy_n(packed.begin() + static_cast<std::ptrdiff_t>(at), count,
                out.begin() + static_cast<std::ptrdiff_t>(done));
    at += item.literals;
    done += count;
    if (item.match == 0) continue;
    if (item.distance != 0) distance = item.distance;
    if (distance == 0 || distance > done) fail();
    count = std::min(item.match, out.size() - done);
    for (std::size_t i = 0; i < count; ++i, ++done) out[done] = out[done - distance];
  }
  return done;
}

}  // namespace operculum
