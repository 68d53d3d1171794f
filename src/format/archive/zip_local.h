#pragma once

#include "format/archive/zip_records.h"
#include "io/source.h"

namespace operculum::zip {

/// An entry's local header, with what its data needs to be read.
struct Local {
  LocalHeader header;
  ExtraFields extra;
  std::uint64_t data = 0;  ///< offset of the data
  Bytes raw;               ///< what the views in `header` borrow from
};

/// Reads the local header at `offset`; its sizes stay as they lie there. Throws Malformed.
Local read_local(const Source& source, std::uint64_t offset);

}  // namespace operculum::zip
