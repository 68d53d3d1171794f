#pragma once

#include <string>

#include "io/descriptor.h"
#include "io/source.h"

namespace operculum {

/// Opens a file, or a block device, read-only. Throws IoError. The bytes are read with pread as they are
/// asked for, so that a file that shrinks meanwhile gives short reads and no signal.
SourcePtr open_file(const std::string& path);

/// The same of a file that is open for reading already.
SourcePtr make_file_source(Descriptor file);

}  // namespace operculum
