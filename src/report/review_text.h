#pragma once

#include <string>

#include "task/layout_review.h"

namespace operculum {

/// For a terminal: what a description that is nearly right leaves open, and what to look at next.
std::string review_text(const LayoutReview& review);

}  // namespace operculum
