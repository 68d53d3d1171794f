#pragma once

#include <memory>
#include <vector>

#include "format/archive/cab_records.h"
#include "io/stream.h"

namespace operculum::cab {

/// The part of a folder that lies in one cabinet.
struct FolderPiece {
  std::shared_ptr<const Cabinet> cabinet;
  FolderRecord record;
};

/// A folder: files packed as one stream, which may run across several cabinets.
struct Folder {
  std::vector<FolderPiece> pieces;
  std::string missing_front;  ///< the cabinet that has its beginning and is not there; empty: it is there
  std::string missing_rest;   ///< the same for its end
  std::uint16_t method() const { return pieces.front().record.method; }
};

/// "stored", "mszip", "quantum" or "lzx"; "unknown" for others.
std::string_view method_name(std::uint16_t method);

/// Whether its first block has a checksum; writers give all blocks one, or none.
bool has_sums(const Folder& folder);

/// The unpacked bytes of a folder. Checksums are compared where they are stored. Throws Malformed, and
/// Unsupported for other codecs.
StreamPtr open_folder(std::shared_ptr<const Folder> folder);

}  // namespace operculum::cab
