#pragma once

#include "format/archive/zip_rewrite.h"

namespace operculum::zip {

/// Where the central directory of a written archive lies: `offset` counts from the archive's begin, `count`
/// is of its entries.
struct WrittenDirectory {
  std::uint64_t offset, size, count;
};

/// Adds the end records (APPNOTE 4.3.14 to 4.3.16) as they were, with the new numbers in them, and what
/// follows them. 64-bit ones are made where a number needs them.
void add_end_records(Assembly& out, const Archive& archive, const WrittenDirectory& now);

}  // namespace operculum::zip
