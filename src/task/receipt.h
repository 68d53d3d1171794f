#pragma once

#include <string>
#include <vector>

#include "task/unpack.h"

namespace operculum {

/// What an unpack wrote, so that it can be taken back: see docs/output.md for the JSON form.
class Receipt {
 public:
  struct Item {
    std::string path;  ///< beneath the folder
    std::uint64_t size = 0;
    std::string sha256;  ///< of files; empty for folders and links
    std::string kind;    ///< "file", "folder", "link"
  };

  std::string source;  ///< the locator that was unpacked
  std::string folder;  ///< absolute
  std::vector<Item> items;

  void add(const UnpackEvent& event);

  /// Throws IoError; nothing that exists is replaced.
  void write(const std::string& path) const;
  static Receipt read(const std::string& path);  ///< throws IoError, Malformed
};

/// What became of one item of a receipt.
struct DiscardEvent {
  enum class Kind { removed, changed, missing, failed } kind;
  std::string path;
  std::string message;
};

/// Removes exactly the files that are still as they were written, then links, then folders that are empty.
struct DiscardTotals {
  std::uint64_t removed = 0, changed = 0, missing = 0, failed = 0;
};
DiscardTotals discard(const Receipt& receipt, bool dry_run,
                      const std::function<void(const DiscardEvent&)>& sink);

}  // namespace operculum
