#pragma once

#include <string>

#include "io/source.h"

namespace operculum {

/// Opens a file, or a block device, read-only. Throws IoError. The bytes are read with pread as they are
/// asked for, so that a file that shrinks meanwhile gives short reads and no signal.
SourcePtr open_file(const std::string& path);

}  // namespace operculum
