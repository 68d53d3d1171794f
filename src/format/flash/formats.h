#pragma once

#include "container/format.h"

namespace operculum {

// The formats of what lies on raw flash, each made in the file of its name; registry.cpp puts them in order.

Format nand_dump_format();
Format jffs2_format();
Format ubi_format();
Format ubifs_format();
Format yaffs_format();
Format littlefs_format();
Format spiffs_format();

}  // namespace operculum
