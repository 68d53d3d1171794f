#include <algorithm>

#include "codec/run_length.h"

namespace operculum {
namespace {

/// How many equal bytes begin at `at`, up to `most`.
std::size_t run_at(ByteView plain, std::size_t at, std::size_t most) {
  std::size_t length = 1;
  while (length < most && at + length < plain.size() && plain[at + length] == plain[at]) ++length;
  return length;
}

/// Runs of 2 or more, and literals between them, each up to 128 bytes: `run_head` and `literal_head` make the
/// byte that announces so many.
template <typename RunHead, typename LiteralHead>
Bytes pack_counted(ByteView plain, RunHead run_head, LiteralHead literal_head) {
  constexpr std::size_t kMost = 128, kWorthARun = 3;
  Bytes out;
  for (std::size_t at = 0; at < plain.size();) {
    std::size_t run = run_at(plain, at, kMost);
    if (run >= kWorthARun || (run == 2 && at + 2 == plain.size())) {
      out.push_back(run_head(run));
      out.push_back(plain[at]);
      at += run;
      continue;
    }
    std::size_t end = at;
    while (end < plain.size() && end - at < kMost && run_at(plain, end, kWorthARun) < kWorthARun) ++end;
    out.push_back(literal_head(end - at));
    out.insert(out.end(), plain.begin() + static_cast<std::ptrdiff_t>(at),
               plain.begin() + static_cast<std::ptrdiff_t>(end));
    at = end;
  }
  return out;
}

Bytes pack_pairs(ByteView plain) {
  Bytes out;
  for (std::size_t at = 0; at < plain.size();) {
    std::size_t run = run_at(plain, at, 255);
    out.push_back(static_cast<Byte>(run));
    out.push_back(plain[at]);
    at += run;
  }
  return out;
}

Bytes pack_marked(ByteView plain, Byte marker) {
  constexpr std::size_t kWorthARun = 4;  // a run takes three bytes
  Bytes out;
  for (std::size_t at = 0; at < plain.size();) {
    std::size_t run = run_at(plain, at, 255);
    if (run >= kWorthARun || (plain[at] == marker && run > 1)) {
      out.insert(out.end(), {marker, static_cast<Byte>(run), plain[at]});
    } else {
      run = 1;
      out.push_back(plain[at]);
      if (plain[at] == marker) out.push_back(0);
    }
    at += run;
  }
  return out;
}

Bytes pack_top_bits(ByteView plain) {
  constexpr Byte kTop = 0xc0;
  Bytes out;
  for (std::size_t at = 0; at < plain.size();) {
    std::size_t run = run_at(plain, at, 0x3f);
    if (run > 1 || plain[at] >= kTop) out.push_back(static_cast<Byte>(kTop | run));
    out.push_back(plain[at]);
    at += run;
  }
  return out;
}

}  // namespace

Bytes pack_run_length(ByteView plain, RunLength form, Byte marker) {
  auto literals = [](std::size_t count) { return static_cast<Byte>(count - 1); };
  switch (form) {
    case RunLength::packbits:
      return pack_counted(
          plain, [](std::size_t count) { return static_cast<Byte>(257 - count); }, literals);
    case RunLength::pairs:
      return pack_pairs(plain);
    case RunLength::marked:
      return pack_marked(plain, marker);
    case RunLength::high_bit:
      return pack_counted(
          plain, [](std::size_t count) { return static_cast<Byte>(0x80 | (count - 1)); }, literals);
    case RunLength::top_bits:
      return pack_top_bits(plain);
  }
  return {};
}

}  // namespace operculum
