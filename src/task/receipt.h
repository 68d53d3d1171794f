#pragma once

#include <string>
#include <unordered_map>
#include <vector>

#include "task/unpack.h"

namespace operculum {

/// What an unpack wrote, so that it can be taken back: see docs/output.md for the JSON form. A receipt is
/// bound to its folder by a seal, a small file in it that holds the receipt's digest: a receipt from
/// elsewhere removes nothing.
class Receipt {
 public:
  struct Item {
    std::string path;  ///< beneath the folder
    std::uint64_t size = 0;
    std::string sha256;       ///< of files and hard links
    std::string kind;         ///< "file", "folder", "link", "hard link"
    std::string link_target;  ///< of links
    std::string replaced;     ///< the path that what was there before has now
  };

  std::string source;    ///< the locator that was unpacked
  std::string folder;    ///< absolute
  bool complete = true;  ///< false: the unpacking was interrupted
  std::vector<Item> items;

  void add(const UnpackEvent& event);

  /// Writes the receipt and, when anything was written, the seal. Throws IoError; nothing that exists is
  /// replaced.
  void write(const std::string& path) const;
  static Receipt read(const std::string& path);  ///< throws IoError, Malformed

  std::string seal() const;       ///< SHA-256 over what was written
  std::string seal_path() const;  ///< beneath the folder

 private:
  std::unordered_map<std::string, std::size_t> files_;  // into items, for hard links
};

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
