#pragma once

#include "io/source.h"

namespace operculum {

/// A thin volume of the Linux device mapper (drivers/md/dm-thin-metadata.c, persistent-data/): two B-trees in
/// `metadata`, of volumes and of each one's blocks, tell where in `data` its blocks lie.
struct ThinVolume {
  SourcePtr metadata, data;
  std::uint64_t device = 0;  ///< its number in the pool
  std::uint64_t size = 0;    ///< bytes
  SourcePtr origin = {};     ///< what blocks that it does not have are taken from; null: they read as zeros
};

/// Throws Malformed where the metadata makes no sense or has no such volume.
SourcePtr make_thin_volume(ThinVolume volume);

}  // namespace operculum
