#pragma once

#include <functional>
#include <memory>

#include "layout/plan/plan.h"

namespace operculum::layout {

/// A description made ready, or what is wrong with it.
struct Compiled {
  std::shared_ptr<const Plan> plan;  ///< null when there are errors
  std::vector<Problem> problems;     ///< errors and warnings, in the order of their places; the first hundred
};

/// Gives the known names in a file beside the description; may throw IoError.
using NamesReader = std::function<std::vector<std::string>(const std::string& file)>;

/// Parses and compiles. Never throws for anything that the description says, save what `read_names` throws.
Compiled compile(Description description, const NamesReader& read_names = {}, bool stranger = false);

}  // namespace operculum::layout
