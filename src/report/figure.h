#pragma once

#include <string>

#include "report/drawing.h"

namespace operculum {

/// A drawing for files of its own.
struct Figure {
  std::string name;  ///< of the files, without an ending
  Drawing drawing;
};

}  // namespace operculum
