#pragma once

#include <string>

namespace operculum {

/// A drawing for a file of its own.
struct Figure {
  std::string name;  ///< of the file
  std::string svg;
};

}  // namespace operculum
