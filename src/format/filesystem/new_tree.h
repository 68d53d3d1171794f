#pragma once

#include <map>
#include <memory>
#include <optional>

#include "container/container.h"
#include "container/rewrite.h"

namespace operculum {

/// Something in a file system that is to be written: of an old one, or new.
struct TreeNode {
  EntryKind kind = EntryKind::folder;  ///< never a hard link: those are nodes with `same_as`
  std::uint32_t mode = 0755;           ///< permission bits
  Timestamp modified;
  std::string link_target;  ///< of symbolic links
  EntryExtra extra;         ///< owner, device numbers, attributes
  ContentPtr content;       ///< of files whose content is new
  std::uint64_t size = 0;   ///< of files, in bytes

  std::optional<std::size_t> old;  ///< the entry that it is of, in the container that is written again
  TreeNode* same_as = nullptr;     ///< another name of that file
  std::uint32_t names = 1;         ///< how many this file has

  std::map<std::string, std::unique_ptr<TreeNode>, std::less<>> children;  ///< by name, byte by byte

  bool is_kept_file() const { return kind == EntryKind::file && old && !content && !same_as; }
};

/// A new tree of these entries; folders that are not among them are made.
TreeNode new_tree(const std::vector<NewEntry>& entries);

/// The tree of `container` with `changes`; what has new content keeps its mode, time and all else. Of files
/// that stay `content` is empty. Throws Unsupported where a path is none that a tree can have, or two entries
/// have the same.
TreeNode changed_tree(Container& container, const Changes& changes);

/// A container to which nothing happens.
inline Assembly unchanged(const SourcePtr& source) {
  Assembly out;
  out.add(source);
  return out;
}

/// Calls `visit(node, path)` for everything beneath `root`, folders in front of what is in them.
template <typename Visit>
void each_node(TreeNode& root, const std::string& front, Visit visit) {
  for (auto& [name, node] : root.children) {
    std::string path = front;
    if (!front.empty()) path += '/';
    path += name;
    visit(*node, path);
    each_node(*node, path, visit);
  }
}

/// The latest time in a tree, in seconds since the epoch, at least 0: of what is made from scratch, so that
/// the same input gives the same bytes.
std::int64_t latest_time(TreeNode& root);

}  // namespace operculum
