#pragma once

#include "container/format.h"

namespace operculum {

// The formats of packages, installers and programs that carry something, each made in the file of its name;
// registry.cpp puts them in order.

Format msi_format();
Format pe_format();
Format rpm_format();
Format deb_format();
Format xar_format();
Format wim_format();
Format carrier_format();

/// Not in the registry: for files that begin as nothing known, where the user wants them searched.
Format searched_file_format();

}  // namespace operculum
