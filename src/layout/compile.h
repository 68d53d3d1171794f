#pragma once

#include <memory>

#include "layout/plan/plan.h"

namespace operculum::layout {

/// A description made ready, or what is wrong with it.
struct Compiled {
  std::shared_ptr<const Plan> plan;  ///< null when there are errors
  std::vector<Problem> problems;     ///< errors and warnings, in the order of their places
};

/// Parses and compiles. Never throws for anything that the description says.
Compiled compile(Description description, std::vector<std::string> known_names = {});

}  // namespace operculum::layout
