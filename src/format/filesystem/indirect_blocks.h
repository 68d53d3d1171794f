#pragma once

#include <bit>
#include <functional>
#include <vector>

#include "io/extent_source.h"

namespace operculum {

/// How an inode of the old Unix kind tells where its file's blocks are: some pointers itself, then one to a
/// block of pointers, one to a block of such, and so on. Pointers of 0 are holes.
struct IndirectBlocks {
  std::vector<std::uint64_t> direct;    ///< pointers to blocks of the file
  std::vector<std::uint64_t> indirect;  ///< pointers to trees: the first one level deep, the next two, ...
  std::uint64_t block_size = 0;         ///< bytes of a block, of the file or of pointers
  std::uint64_t pointers_in_block = 0;
  /// What a pointer stands for as an offset in the image, in bytes. Throws Malformed outside of it.
  std::function<std::uint64_t(std::uint64_t pointer)> place;
  /// The pointers in the block at an offset.
  std::function<std::vector<std::uint64_t>(std::uint64_t at)> read;
};

/// Pointers of `width` bytes each, as a block or an inode has them.
std::vector<std::uint64_t> pointers_in(ByteView raw, std::size_t width, std::endian order);

/// Where the first `size` bytes of the file lie. Throws Malformed where a block of pointers is met twice.
std::vector<Extent> extents_of(const IndirectBlocks& blocks, std::uint64_t size);

/// Adds a run, joined with the last one where it goes on.
void add_extent(std::vector<Extent>& out, const Extent& more);

}  // namespace operculum
