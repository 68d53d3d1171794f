#include "codec/x86_branches.h"

#include <algorithm>

#include "base/cursor.h"

namespace operculum {
namespace {

constexpr Byte kCall = 0xE8, kJump = 0xE9;

/// The high byte of a target that is likely one: near, in either direction.
bool is_sign(std::uint32_t byte) {
  return byte == 0 || byte == 0xFF;
}

/// Which patterns of opcodes among the bytes before let a target be one; and how far back the last lies.
constexpr bool kAllowed[] = {true, true, true, false, true, false, false, false};
constexpr unsigned kBack[] = {0, 1, 2, 2, 3, 3, 3, 3};

}  // namespace

void restore_x86_branches(ByteSpan bytes) {
  constexpr std::size_t kInstruction = 5;
  if (bytes.size() < kInstruction) return;
  std::uint32_t mask = 0;
  std::size_t last = 0;  // of the last opcode seen, plus 1; 0: none
  for (std::size_t at = 0; at + kInstruction <= bytes.size();) {
    if (bytes[at] != kCall && bytes[at] != kJump) {
      ++at;
      continue;
    }
    std::size_t since = last == 0 ? kInstruction + 1 : at + 1 - last;
    last = at + 1;
    if (since > kInstruction) {
      mask = 0;
    } else {
      for (std::size_t i = 0; i < since; ++i) mask = (mask & 0x77) << 1;
    }
    std::uint32_t high = bytes[at + 4];
    bool target = is_sign(high) && (mask >> 1) < 16 && kAllowed[mask >> 1 & 7];
    if (!target) {
      ++at;
      mask |= 1 | (is_sign(high) ? 0x10 : 0);
      continue;
    }
    auto source = load_little<std::uint32_t>(bytes.data() + at + 1);
    auto here = static_cast<std::uint32_t>(at + kInstruction);
    std::uint32_t restored = source - here;
    while (mask != 0) {
      unsigned shift = kBack[mask >> 1 & 7] * 8;
      if (!is_sign(restored >> (24 - shift) & 0xFF)) break;
      source = restored ^ (static_cast<std::uint32_t>((std::uint64_t{1} << (32 - shift)) - 1));
      restored = source - here;
    }
    for (unsigned i = 0; i < 3; ++i) bytes[at + 1 + i] = static_cast<Byte>(restored >> (8 * i));
    bytes[at + 4] = (restored >> 24 & 1) != 0 ? 0xFF : 0;
    at += kInstruction;
    mask = 0;
  }
}

}  // namespace operculum
