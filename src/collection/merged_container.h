#pragma once

#include "collection/inventory.h"

namespace operculum {

/// A file of some inventory under a path of its own. Both are borrowed.
struct MergedFile {
  std::string path;
  const Inventory* inventory = nullptr;
  const Item* item = nullptr;
};

/// What a merged container is called where containers are told apart.
const Format& merged_format();

/// Files out of several containers as one: so that whatever takes a container takes them, too. The
/// inventories must outlive it.
ContainerPtr make_merged(std::vector<MergedFile> files);

}  // namespace operculum
