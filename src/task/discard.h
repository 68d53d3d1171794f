#pragma once

#include <functional>
#include <string>

#include "task/receipt.h"

namespace operculum {

/// What became of one item of a receipt.
struct DiscardEvent {
  enum class Kind { removed, changed, missing, failed, returned } kind;
  std::string path;
  std::string message;
};

/// What became of the files that a receipt names.
struct DiscardTotals {
  std::uint64_t removed = 0, changed = 0, missing = 0, failed = 0;
  std::uint64_t returned = 0;  ///< files that had been replaced and are back
};

/// Removes exactly the files and links that are still as they were written, then folders that are empty, and
/// gives files that had been replaced their names back. Throws IoError, and Malformed when the receipt does
/// not belong to the folder that it names.
DiscardTotals discard(const Receipt& receipt, bool dry_run,
                      const std::function<void(const DiscardEvent&)>& sink);

}  // namespace operculum
