#pragma once

#include "container/sequence.h"

namespace operculum::ar {

/// Writes ar headers as those that are there.
std::unique_ptr<SequenceEditor> make_editor();

}  // namespace operculum::ar
