#pragma once

#include "container/format.h"

namespace operculum {

/// The UDF file system of a disc image. Throws Malformed when there is none.
ContainerPtr open_udf(SourcePtr image, OpenContext& context);

}  // namespace operculum
