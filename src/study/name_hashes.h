#pragma once

#include <span>
#include <string>

#include "study/hypothesis.h"

namespace operculum::study {

/// Looks for a column that has hashes of names, among names that are known from elsewhere, where records have
/// no names.
void find_name_hashes(Hypothesis& found, std::span<const std::string> known);

}  // namespace operculum::study
