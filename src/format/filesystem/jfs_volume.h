#pragma once

#include <functional>
#include <unordered_set>

#include "base/facts.h"
#include "base/time.h"
#include "container/container.h"
#include "format/filesystem/jfs_records.h"
#include "io/extent_source.h"

namespace operculum::jfs {

constexpr std::uint64_t kSuperAt = 32768, kRootInode = 2;
constexpr std::size_t kInodeSize = 512, kPage = 4096, kTreeAt = 224, kSlot = 32;

/// Throws Malformed unless the bytes are a superblock that makes sense.
Superblock read_superblock(ByteView raw);

/// A name in a folder.
struct FolderItem {
  std::string name;
  std::uint32_t inode = 0;
};

/// The structures of a JFS file system, read as they are wanted.
class Volume {
 public:
  explicit Volume(SourcePtr image);

  const Superblock& super() const { return super_; }
  std::uint64_t size() const { return super_.size * super_.pbsize; }  ///< bytes

  /// An inode of the file set.
  Inode inode(std::uint64_t number) const;
  SourcePtr data(const Inode& inode) const;
  std::string link_target(const Inode& inode) const;
  ExtendedAttributes attributes(const Inode& inode) const;
  /// Hands out a folder's names. A page that is damaged costs itself; the last such error is thrown at the
  /// end.
  void list_folder(const Inode& folder, const std::function<void(FolderItem&&)>& take) const;

 private:
  struct Run {
    std::uint64_t block = 0, count = 0;
  };
  using Seen = std::unordered_set<std::uint64_t>;

  static Run run_of(const BlockRun& stated);
  std::uint64_t place_of(Run run, std::string_view what) const;
  std::vector<Extent> extents(ByteView root, std::uint64_t size) const;
  void extent_page(ByteView page, std::size_t most, Seen& seen, std::vector<Extent>& out) const;
  void folder_page(ByteView page, std::size_t table_at, std::size_t count, Seen& seen,
                   const std::function<void(FolderItem&&)>& take, std::string& wrong) const;
  std::string name_at(ByteView page, std::size_t slot, bool leaf) const;

  SourcePtr image_, meta_, inode_map_;
  Superblock super_;
};

}  // namespace operculum::jfs
