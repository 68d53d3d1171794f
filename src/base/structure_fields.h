#pragma once

#include "base/fields.h"
#include "base/structure.h"

namespace operculum {

/// The structure that begins at byte `at` of the bytes; where they end before it does, Malformed as of any
/// field.
template <typename S, std::endian Order>
S structure_at(const Fields<Order>& bytes, std::size_t at) {
  static_assert(decltype(S::layout)::order == Order);
  return read_structure<S>(bytes.bytes(at, size_on_disk<S>).data());
}

/// The structure that the bytes begin with; where they end before it does, Malformed names `what` and `base`,
/// the offset of the bytes in their file.
template <typename S>
S structure_in(ByteView bytes, std::string_view what, std::uint64_t base = 0) {
  return structure_at<S>(Fields<decltype(S::layout)::order>(bytes, what, base), 0);
}

}  // namespace operculum
