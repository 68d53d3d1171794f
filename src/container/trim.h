#pragma once

#include "container/container.h"
#include "io/assembly.h"
#include "io/filling.h"

namespace operculum {

/// A container without the filling that it does without.
struct Trimmed {
  Assembly result;
  std::vector<std::size_t> gone =
      {};  ///< entries that were filling alone, such as the space behind partitions
};

/// The source up to where the filling begins that it ends with, but at least `needed` bytes of it, and a
/// multiple of `alignment` bytes; nothing when nothing would go.
std::optional<Trimmed> without_end(const SourcePtr& source, std::uint64_t needed, std::uint64_t alignment,
                                   Look look);

}  // namespace operculum
