#pragma once

#include <span>

#include "layout/plan/nodes.h"

namespace operculum::layout {

/// A function of the language, as the reference lists it. In `takes` each letter is a parameter: n number, t
/// text, b bytes, B bytes or text, l list, '?' behind it: may be left out.
struct Function {
  std::string_view name, takes;
  StaticType::Base gives;
  std::string_view about;
  BuiltIn call;
};

std::span<const Function> built_in_functions();
const Function* find_function(std::string_view name);

}  // namespace operculum::layout
