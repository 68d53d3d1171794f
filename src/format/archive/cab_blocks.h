#pragma once

#include <optional>

#include "container/rewrite.h"
#include "format/archive/cab_folder.h"
#include "io/assembly.h"

namespace operculum::cab {

/// How the blocks of a folder are made.
struct BlockForm {
  std::uint16_t method = mszip_codec;  ///< as in FolderRecord
  int level = 9, memory_level = 8;     ///< of MSZIP, in zlib's scale
  bool sums = true;
  std::size_t reserve = 0;  ///< bytes between a block's header and its data
};

/// The blocks of a folder as they lie in a cabinet, and what they hold.
struct OldBlocks {
  SourcePtr cabinet;
  FolderRecord record;
  std::function<StreamPtr()> open;
};

/// The folder of a cabinet, packed.
struct PackedFolder {
  Assembly bytes;
  std::uint16_t blocks = 0;
};

/// Packs the plain bytes of a folder. Blocks that come out of `old` unchanged, with what lies in front of
/// them, are taken over as they lie. Throws Unsupported for codecs without an encoder and for folders with
/// more blocks than one can have.
PackedFolder pack_folder(Stream& plain, const BlockForm& form, const OldBlocks* old, SpoolBudget& budget);

/// The form with the level and memory level of MSZIP with which the first blocks of a folder come out as they
/// are, for other codecs itself where they do; nothing where they never do.
std::optional<BlockForm> find_form(const OldBlocks& old, BlockForm form);

}  // namespace operculum::cab
