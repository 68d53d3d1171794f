#pragma once

#include <map>

#include "base/facts.h"
#include "container/format.h"

namespace operculum {

/// Bytes at addresses, with gaps between: what text forms of programs hold.
class MemoryImage {
 public:
  static constexpr std::uint64_t kMostBytes = 256 << 20;  ///< kept in memory, of all ranges

  /// Puts bytes at an address; what was there before is replaced, and told by overlaps(). Throws
  /// LimitExceeded.
  void add(std::uint64_t address, ByteView bytes);

  struct Range {
    std::uint64_t address = 0;
    Bytes bytes;
  };
  /// In order of their addresses; neighbours are one.
  const std::vector<Range>& ranges();
  bool overlaps() const { return overlaps_; }
  bool empty() const { return ranges_.empty(); }

 private:
  std::vector<Range> ranges_;
  std::uint64_t total_ = 0;
  bool sorted_ = true, overlaps_ = false;
};

/// What was read of a file that holds such images.
struct MemoryFile {
  std::map<std::string, MemoryImage> images;  ///< by the name that their entries get
  Facts facts;
  std::vector<Finding> findings;
  std::string
      incomplete;  ///< why bytes may be missing; empty: none are. Told again by whoever reads an image
};

inline constexpr std::string_view kRangesView = "ranges";

/// A container of the images, each from its lowest address on, with gaps as holes; with the view "ranges" of
/// the ranges, by their addresses.
ContainerPtr make_memory_file(MemoryFile file, const OpenContext& context);

}  // namespace operculum
