#pragma once

#include "container/format.h"

namespace operculum {

// The formats of file systems, each made in the file of its name; registry.cpp puts them in order.

Format ext_format();
Format xfs_format();
Format btrfs_format();
Format f2fs_format();
Format nilfs_format();
Format apfs_format();
Format jfs_format();
Format reiser_format();
Format ufs_format();
Format minix_format();
Format hfs_classic_format();
Format bfs_format();
Format affs_format();
Format sysv_format();
Format befs_format();
Format qnx4_format();
Format qnx6_format();
Format hpfs_format();
Format squashfs_format();
Format erofs_format();
Format cramfs_format();
Format romfs_format();
Format fat_format();
Format exfat_format();
Format ntfs_format();
Format hfs_format();
Format iso_format();
Format udf_format();

// Containers of new entries, for Format::pack.
Assembly pack_fat(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_iso(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_squashfs(const std::vector<NewEntry>& entries, const Writing& writing);

}  // namespace operculum
