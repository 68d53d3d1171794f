#pragma once

#include "base/field_rows.h"
#include "container/known_record.h"
#include "container/probe.h"

namespace operculum {

/// The structure S at a place of a file, in an order that the file tells where that is not always the same.
template <typename S>
PlacedFields fields_at(Probe& probe, std::uint64_t at, std::endian order = decltype(S::layout)::order) {
  Bytes bytes = probe.at(at, size_on_disk<S>);
  if (bytes.size() < size_on_disk<S>) return {};
  return {at, field_rows<S>(bytes.data(), at, order)};
}

/// The structure S, `at` bytes behind the begin.
template <typename S>
KnownRecord record_at(std::string_view name, std::uint64_t at) {
  return {name, [at](Probe& probe) { return fields_at<S>(probe, at); }};
}

/// The structure S, which begins `behind` bytes in front of the end.
template <typename S>
KnownRecord record_at_end(std::string_view name, std::uint64_t behind = size_on_disk<S>) {
  return {name, [behind](Probe& probe) {
            std::uint64_t size = probe.size().value_or(0);
            return size < behind ? PlacedFields{} : fields_at<S>(probe, size - behind);
          }};
}

}  // namespace operculum
