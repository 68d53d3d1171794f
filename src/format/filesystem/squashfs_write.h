#pragma once

#include <unordered_map>

#include "format/filesystem/new_tree.h"
#include "format/filesystem/squashfs_data.h"

namespace operculum::squash {

/// Where the bytes of a tree's files lie.
using StoredFiles = std::unordered_map<const TreeNode*, StoredFile>;

/// Where the data begins in an image of this form.
std::uint64_t data_begin(const Form& form);

/// The whole image: superblock, `data`, and the tables of inodes, folders and all else, inodes numbered and
/// written in the order that the makers of SquashFS use: a folder behind what is in it.
Assembly whole_image(const Form& form, TreeNode& root, const StoredFiles& files, const Assembly& data,
                     const std::vector<FragmentRecord>& fragments);

}  // namespace operculum::squash
