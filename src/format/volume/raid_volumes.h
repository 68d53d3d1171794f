#pragma once

#include "base/facts.h"
#include "container/container.h"

namespace operculum {

/// A volume that lies on several disks.
struct RaidVolume {
  std::string name;
  std::string type;        ///< "RAID 5"
  std::uint64_t size = 0;  ///< bytes
  std::size_t members = 0, missing = 0;
  bool readable = true;             ///< in spite of what is missing
  std::function<SourcePtr()> open;  ///< its bytes; may throw
};

/// A container whose entries are the volumes. What is missing of one becomes a finding.
ContainerPtr make_raid_volumes(std::vector<RaidVolume> volumes, Facts facts,
                               const std::vector<Finding>& findings);

}  // namespace operculum
