#pragma once

#include "base/field_rows.h"

namespace operculum {

/// A structure at a place that its format fixes, by which a file can be shown field by field.
struct KnownRecord {
  std::string_view name;  ///< "superblock"
  std::uint64_t at = 0;   ///< where it begins; of one at the end, bytes in front of the end
  bool from_end = false;
  std::size_t size = 0;  ///< in bytes
  std::vector<FieldRow> (*rows)(const Byte* bytes, std::uint64_t base) = nullptr;
};

/// The structure S, `at` bytes behind the begin.
template <typename S>
KnownRecord record_at(std::string_view name, std::uint64_t at) {
  return {name, at, false, size_on_disk<S>, field_rows<S>};
}

/// The structure S, with which the file ends.
template <typename S>
KnownRecord record_at_end(std::string_view name) {
  return {name, size_on_disk<S>, true, size_on_disk<S>, field_rows<S>};
}

}  // namespace operculum
