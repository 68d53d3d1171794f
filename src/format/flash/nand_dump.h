#pragma once

#include "container/format.h"

namespace operculum {

/// How a NAND chip is divided, as its dump has it: pages with spare bytes behind each, so many of them a
/// block.
struct NandPages {
  std::uint32_t page = 0, spare = 0;  ///< in bytes
  std::uint32_t per_block = 0;        ///< pages; 0: worked out
};

/// Not in the registry: for dumps whose pages a person told.
Format told_nand_dump_format(NandPages pages);

}  // namespace operculum
