#pragma once

#include "container/sequence.h"

namespace operculum::cpio {

/// Writes cpio headers in the variant of the archive; newc where there is none yet.
std::unique_ptr<SequenceEditor> make_editor();

}  // namespace operculum::cpio
