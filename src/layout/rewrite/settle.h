#pragma once

#include "layout/rewrite/attempt.h"

namespace operculum::layout {

/// A container whose bytes are where they belong, until it is right: checksums are set, what has to be
/// encrypted anew where it lies is, and then everything is compared with what was there. Throws Unsupported
/// where that does not lead there, and Malformed where the result cannot be read.
Made settle(Survey& survey, const std::map<std::size_t, PackedEntry>& packed, const RowChange* row,
            Made made);

/// The file with the checksums of its parts as they have to be. Throws Unsupported where one is not found.
Assembly settle_sums(const DescribedFile& file);

}  // namespace operculum::layout
