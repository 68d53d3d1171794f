#pragma once

#include <string>
#include <vector>

#include "io/source.h"

namespace operculum {

/// How the blocks of an array lie on its members: RAID as the Linux kernel builds it (drivers/md).
struct RaidShape {
  static constexpr int kLinear = -1;
  static constexpr unsigned kForward =
      100;  ///< levels 5 and 6 of btrfs: data first, all of it moves on by one each stripe

  int level = 0;                  ///< kLinear, 0, 1, 4, 5, 6 or 10
  unsigned layout = 0;            ///< as the kernel numbers the layouts of that level
  std::uint64_t chunk = 0;        ///< bytes; not used by level 1 and kLinear
  std::uint64_t member_size = 0;  ///< bytes of each member that are used; levels 0 and kLinear use all
};

/// The array's bytes. A member that is missing is null: what it held is computed from the others where the
/// level allows that, and otherwise an error when it is read, which calls it by its number. Throws Malformed
/// where the shape is impossible, Unsupported for layouts that are not known.
SourcePtr make_raid_array(const RaidShape& shape, std::vector<SourcePtr> members);

/// "RAID 5", "linear".
std::string level_name(int level);

/// The most members that may be missing without loss; for level 10 never more than the copies.
unsigned redundancy(const RaidShape& shape, std::size_t members);

}  // namespace operculum
