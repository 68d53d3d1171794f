#pragma once

#include "collection/catalogue/schema.h"

namespace operculum {

struct MergeTotals {
  std::uint64_t files = 0;  ///< taken over
  std::uint64_t kept = 0;   ///< of which the catalogue had a newer reading
  std::uint64_t entries = 0;
};

/// Takes over what another catalogue knows. Of a file that both know the newer reading stays. All of it or
/// nothing. Throws Malformed when `other` is no catalogue, Error of kind io.
MergeTotals merge_catalogue(Database& database, const std::string& other);

}  // namespace operculum
