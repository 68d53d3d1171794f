#pragma once

#include "layout/run/run.h"

namespace operculum::layout {

/// A value for a person: "12 (0xc)", "\"crab.png\"", "53 48 4f 41". Names from containers come escaped.
std::string value_text(Run& run, const Value& value, const ReadPlan& plan);
std::string value_text(Run& run, const Value& value);

}  // namespace operculum::layout
