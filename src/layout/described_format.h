#pragma once

#include "container/format.h"
#include "layout/plan/plan.h"

namespace operculum::layout {

/// Whether the user named a description for this very run, or it was found among others: only then it must
/// have a name ending or a few constant bytes to go by.
enum class Chosen { by_user, by_content };

/// The format that a description describes, like any other; its texts live as long as the plan.
Format described_format(const std::shared_ptr<const Plan>& plan, Chosen chosen);

}  // namespace operculum::layout
