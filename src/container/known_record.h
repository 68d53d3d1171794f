#pragma once

#include <functional>
#include <vector>

#include "base/field_row.h"

namespace operculum {

class Probe;

/// Where a structure lies in a file, and its fields there; without fields it is not there.
struct PlacedFields {
  std::uint64_t at = 0;
  std::vector<FieldRow> rows = {};
};

/// A structure by which a format is known, so that a file of it can be shown field by field. How formats make
/// one: container/record_fields.h.
struct KnownRecord {
  std::string_view name;                     ///< "superblock"
  std::function<PlacedFields(Probe&)> find;  ///< in a file that the format reads
};

}  // namespace operculum
