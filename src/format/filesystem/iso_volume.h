#pragma once

#include <optional>
#include <string>

#include "base/time.h"
#include "format/filesystem/iso_record_reader.h"
#include "io/source.h"

namespace operculum::iso {

constexpr std::uint64_t kDescriptorsAt = 16 * kSector;
constexpr std::string_view kMark = "CD001";

/// What the volume descriptors of a session say (ECMA-119, 8; Joliet; El Torito). Blocks and sizes; places of
/// trees are in blocks.
struct Volume {
  std::uint64_t at = 0;                         // of its descriptors
  std::uint64_t primary_at = 0, joliet_at = 0;  // of those two, in bytes
  std::uint64_t block = kSector, blocks = 0;
  std::uint64_t root = 0, root_size = 0, path_table = 0, path_table_size = 0;
  std::uint64_t joliet_root = 0, joliet_size = 0, joliet_table = 0, joliet_table_size = 0, boot_catalog = 0;
  bool has_joliet = false;
  std::string label, application, publisher;
  Timestamp made;
};

/// The sessions of a disc: the one whose tree is shown, and how many there are.
struct Sessions {
  Volume shown;
  unsigned count = 1;
};

/// Looks for all sessions; the last one is shown, or the first. Throws Malformed when there is none.
Sessions find_sessions(const Source& image, bool first);

}  // namespace operculum::iso
