#pragma once

#include <string>
#include <vector>

#include "container/entry.h"
#include "support/byte_writer.h"

namespace operculum::test {

/// Something to be put into a file system by one of the writers. Parents come before what is in them.
struct SampleNode {
  std::string path;
  EntryKind kind = EntryKind::file;
  Bytes data = {};
  std::string target = {};  ///< of a link
  std::uint32_t mode = 0;   ///< 0: 0755 for folders, 0644 otherwise
  std::uint32_t user = 0, group = 0;
  std::int64_t time = 1772373908;  ///< 2026-03-01 14:05:08

  std::uint32_t permissions() const { return mode != 0 ? mode : kind == EntryKind::folder ? 0755 : 0644; }
  std::string name() const { return std::string(base_name(path)); }
  std::string parent() const {
    std::size_t slash = path.rfind('/');
    return slash == std::string::npos ? "" : path.substr(0, slash);
  }
};
using SampleTree = std::vector<SampleNode>;

/// A tree that has what file systems differ in: an empty file, one of several blocks, one that packs well,
/// long names, folders within folders and one with many entries.
SampleTree sample_tree();
/// The same with symbolic links.
SampleTree sample_tree_with_links();

/// Bytes that do not pack well, the same for the same seed.
Bytes noise(std::size_t size, std::uint32_t seed = 1);

/// What is directly in a folder ("" is the root), as positions in the tree.
std::vector<std::size_t> children_of(const SampleTree& tree, const std::string& folder);
/// The same by their names.
std::vector<std::size_t> children_by_name(const SampleTree& tree, const std::string& folder);

/// A folder's node; the root, which the tree need not have, is made up.
SampleNode folder_node(const SampleTree& tree, const std::string& path);

/// Compares a container with the tree: every path is there, once, with its kind, data and link target, and
/// nothing is wrong. Returns a line for each difference. More entries are only allowed where their path
/// starts with `extra`.
std::string compare_tree(struct Held& held, const SampleTree& tree, const std::string& extra = "");

}  // namespace operculum::test
