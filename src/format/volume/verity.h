#pragma once

#include <optional>
#include <string>
#include <vector>

#include "container/known_record.h"
#include "io/source.h"

namespace operculum::verity {

// dm-verity hash trees, after the Linux kernel's Documentation/admin-guide/device-mapper/verity.rst and the
// superblock that its user-space tool writes. The data's blocks are hashed, the hashes fill blocks that are
// hashed again, up to one block whose hash is the root. The blocks of the tree lie behind the superblock, the
// top level first. Numbers are little-endian.

inline constexpr std::string_view kMark("verity\0\0", 8);

/// What a hash tree's header tells, or the command line.
struct Tree {
  unsigned hash_type = 1;  ///< 0: the salt behind the block, hashes without gaps
  std::string uuid, algorithm;
  std::size_t data_block = 0, hash_block = 0;  ///< bytes
  std::uint64_t data_blocks = 0;
  Bytes salt;
  std::uint64_t at = 0;  ///< bytes, of the superblock
  // worked out
  std::size_t digest_size = 0;        ///< bytes
  unsigned bits = 0;                  ///< of the number of hashes in a block
  std::vector<std::uint64_t> levels;  ///< the first block of each level from the lowest on, in bytes
  std::uint64_t end = 0;              ///< bytes
  std::uint64_t data_size() const { return data_blocks * data_block; }
};

/// The superblock at `at`. Throws Malformed, Unsupported.
Tree read_tree(const Source& file, std::uint64_t at);

/// The tree in a file: at its begin, or behind the data that it is of. Throws as read_tree().
Tree find_tree(const Source& file);

/// The hash of the tree's top.
Bytes root_of(const Tree& tree, const Source& hashes);

/// The data, each block of which is compared when it is read; what does not fit throws Malformed. The root is
/// compared with `root` where one is given; throws Malformed when it is another.
SourcePtr make_verified(SourcePtr data, SourcePtr hashes, const Tree& tree, const std::optional<Bytes>& root);

/// The superblock, at the begin of a file.
KnownRecord known_superblock();

}  // namespace operculum::verity
