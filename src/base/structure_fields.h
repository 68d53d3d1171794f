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

}  // namespace operculum
