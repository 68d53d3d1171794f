#pragma once

#include <map>

#include "format/filesystem/ext_volume.h"
#include "io/patches.h"

namespace operculum::ext {

/// Which blocks of a file system are in use, while that changes.
class BlocksInUse {
 public:
  BlocksInUse(const Volume& volume, const Patches& patches) : volume_(volume), patches_(patches) {}

  void free(std::uint64_t block);
  /// `count` free blocks, in runs as long as there are, from `near` on first. Throws Unsupported where there
  /// are fewer.
  std::vector<std::uint64_t> take(std::uint64_t count, std::uint64_t near);
  /// Bitmaps, descriptors and the superblock, as they are now.
  void write(Patches& patches) const;

 private:
  struct Group {
    Bytes bitmap;
    std::uint64_t bitmap_at = 0;  // bytes
    bool usable = false;          // its bitmap is there
    std::int64_t freed = 0;
  };
  Group& group(std::uint64_t number);
  std::uint64_t groups() const;
  std::uint64_t first_of(std::uint64_t group) const;
  void write_descriptor(std::uint64_t number, const Group& group, Patches& patches) const;

  const Volume& volume_;
  const Patches& patches_;
  std::map<std::uint64_t, Group> groups_;
};

}  // namespace operculum::ext
