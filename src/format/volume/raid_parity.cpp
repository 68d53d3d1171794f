#include "format/volume/raid_parity.h"

#include <fmt/format.h>

#include <array>

#include "base/error.h"

namespace operculum {
namespace {

struct Field {
  std::array<Byte, 512> power = {};  // of 2; twice around, so that sums of logarithms need no remainder
  std::array<unsigned, 256> log = {};
};

constexpr Field make_field() {
  constexpr unsigned kPolynomial = 0x11D;
  Field out;
  unsigned value = 1;
  for (unsigned i = 0; i < 255; ++i) {
    out.power[i] = out.power[i + 255] = static_cast<Byte>(value);
    out.log[value] = i;
    value <<= 1;
    if (value > 255) value ^= kPolynomial;
  }
  return out;
}

constexpr Field kField = make_field();

Byte times(Byte a, Byte b) {
  return a == 0 || b == 0 ? Byte{0} : kField.power[kField.log[a] + kField.log[b]];
}

Byte inverse(Byte a) {
  return kField.power[255 - kField.log[a]];
}

/// out += factor * more
void add(Bytes& out, ByteView more, Byte factor) {
  std::array<Byte, 256> product;
  for (unsigned i = 0; i < 256; ++i) product[i] = times(static_cast<Byte>(i), factor);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] ^= product[more[i]];
}

Byte factor_of(const StripePart& part) {
  return kField.power[part.power % 255];
}

}  // namespace

Bytes rebuild_part(const std::vector<StripePart>& stripe, std::size_t wanted, std::size_t length) {
  using Kind = StripePart::Kind;
  const StripePart *p = nullptr, *q = nullptr, *other = nullptr;
  unsigned missing = 0;
  // sums of the data that is there, and of P or Q where they are
  Bytes first(length), second(length);
  for (std::size_t i = 0; i < stripe.size(); ++i) {
    const StripePart& part = stripe[i];
    if (!part.bytes) {
      ++missing;
      if (i != wanted && part.kind == Kind::data) other = &part;
      continue;
    }
    if (part.kind == Kind::p) p = &part;
    if (part.kind == Kind::q) q = &part;
    if (part.kind == Kind::data) {
      add(first, *part.bytes, 1);
      add(second, *part.bytes, factor_of(part));
    }
  }
  const StripePart& own = stripe[wanted];
  if (!other && own.kind == Kind::p) return first;
  if (!other && own.kind == Kind::q) return second;
  if (own.kind == Kind::data && !other && p) {
    add(first, *p->bytes, 1);
    return first;
  }
  if (own.kind == Kind::data && !other && q) {
    add(second, *q->bytes, 1);
    Bytes out(length);
    add(out, second, inverse(factor_of(own)));
    return out;
  }
  if (own.kind == Kind::data && other && p && q && missing == 2 && factor_of(own) != factor_of(*other)) {
    // x + y = P', a x + b y = Q'  =>  x = (Q' + b P') / (a + b)
    add(first, *p->bytes, 1);
    add(second, *q->bytes, 1);
    add(second, first, factor_of(*other));
    Bytes out(length);
    add(out, second, inverse(factor_of(own) ^ factor_of(*other)));
    return out;
  }
  throw Malformed(
      fmt::format("{} members of the array are missing: what they held cannot be computed", missing));
}

}  // namespace operculum
