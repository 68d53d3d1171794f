#pragma once

#include <string>

#include "base/shown.h"
#include "task/layout_review.h"

namespace operculum {

/// For a terminal: what a description that is nearly right leaves open, and what to look at next.
Shown review_text(const LayoutReview& review);

}  // namespace operculum
