#pragma once

#include <string>

namespace operculum {

/// One thing that the program needs of the machine, and how it stands with it.
struct Checkup {
  std::string subject;
  bool well = true;
  std::string text;  ///< for a person: what is there; or what is missing, what that costs and what to do
};

}  // namespace operculum
