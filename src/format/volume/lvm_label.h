#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "container/known_record.h"
#include "io/source.h"

namespace operculum::lvm {

// The label of a physical volume and the place of its metadata, after LVM2's lib/format_text/layout.h and
// lib/label/label.h: in one of the first four sectors lies the label, then the header of the physical volume
// with its data and metadata areas. A metadata area begins with a header that tells where in the area's ring
// the newest text lies.

/// What the label of a physical volume tells.
struct Label {
  std::string id;  ///< of the physical volume, with dashes as the text has it
  std::vector<std::pair<std::uint64_t, std::uint64_t>> metadata;  ///< areas: begin, size, in bytes
};

using Read = std::function<Bytes(std::uint64_t offset, std::size_t count)>;

/// Nothing where there is no label, or one that does not fit its checksum.
std::optional<Label> find_label(const Read& read);

/// The newest metadata text of an area; nothing where it has none. Throws Malformed on damage.
std::optional<std::string> read_metadata(const Source& volume, std::uint64_t at, std::uint64_t size);

/// The label, in the sector that has it.
PlacedFields shown_label(Probe& probe);

}  // namespace operculum::lvm
