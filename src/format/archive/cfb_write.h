#pragma once

#include <vector>

#include "format/archive/cfb_records.h"
#include "io/assembly.h"

namespace operculum::cfb {

/// Something that a compound file is to hold. Of `record` the name, kind, class, state and times are kept;
/// its place, its place in the tree and its size are worked out.
struct NewNode {
  DirectoryEntry record;
  SourcePtr bytes;                    ///< of a stream
  std::vector<std::size_t> children;  ///< of a storage, by their numbers among the nodes
};

/// Sets the name of an entry. Throws Unsupported for what no entry can be called.
void set_name(DirectoryEntry& record, std::string_view name);

/// A compound file of these nodes, the first of which is the root; version, sector size, cutoff and class are
/// those of `form`. Streams come first, then what leads to them. Throws Unsupported where the format has no
/// room.
Assembly write(const Header& form, std::vector<NewNode> nodes);

}  // namespace operculum::cfb
