#pragma once

#include "format/filesystem/squashfs_volume.h"
#include "format/filesystem/squashfs_write.h"

namespace operculum::squash {

/// A file of the image that is written again.
struct OldFile {
  Inode inode;
  std::vector<std::uint32_t> sizes;
  const TreeNode* node = nullptr;  ///< null: it is removed
  bool stays() const { return node != nullptr && !node->content; }
};

/// Writes the data of a changed tree: blocks and fragments of what stays as they lie, in their order; new
/// contents in the place of those that they replace; what is new behind all. A fragment of which something
/// went is packed again. Throws what reading and packing throw.
class DataRewriter {
 public:
  DataRewriter(Volume& volume, const SourcePtr& image, DataWriter& writer, StoredFiles& files)
      : volume_(volume), image_(image), writer_(writer), files_(files) {}

  /// `files`: all of the image, each once; `root`: the changed tree.
  void run(const std::vector<OldFile>& files, TreeNode& root);

 private:
  /// A run of packed bytes, or a fragment, and the files that have theirs in it.
  struct Piece {
    std::uint64_t length = 0;
    std::optional<std::uint32_t> fragment;
    std::vector<const OldFile*> users;
  };

  void gather(const std::vector<OldFile>& files);
  void write_run(std::uint64_t at, const Piece& piece);
  void write_fragment(const Piece& piece);
  void put_new(const TreeNode& node);

  Volume& volume_;
  const SourcePtr& image_;
  DataWriter& writer_;
  StoredFiles& files_;
  std::map<std::uint64_t, Piece> pieces_;  // by place
};

/// Packs all files of a tree whose contents are new, equal ones once where the form says so.
Assembly pack_files(TreeNode& root, const Form& form, unsigned jobs, DataWriter& writer, StoredFiles& files);

}  // namespace operculum::squash
