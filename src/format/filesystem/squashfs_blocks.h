#pragma once

#include <bit>
#include <functional>
#include <string>
#include <vector>

#include "format/filesystem/squashfs_records.h"
#include "io/block_cache.h"
#include "io/block_source.h"

/// What all versions of SquashFS have in common: metadata in small packed blocks, files in larger ones, ends
/// of files together in fragments.
namespace operculum::squash {

/// A place in a table of packed metadata blocks, read on from block to block.
class MetaReader {
 public:
  using ReadBlock = std::function<BytesPtr(std::uint64_t at, std::uint64_t& next)>;
  /// From `offset` in the unpacked bytes of the block at `block`; `read_block` outlives it. Throws Malformed.
  MetaReader(const ReadBlock& read_block, std::uint64_t block, std::uint64_t offset);

  Bytes take(std::size_t count);  ///< the next bytes, gathered across blocks; throws Malformed

 private:
  void turn() { block_ = read_block_(next_, next_); }

  const ReadBlock& read_block_;
  std::uint64_t next_;
  std::size_t at_;
  BytesPtr block_;
};

/// What an inode says, of whatever kind.
struct Inode {
  std::uint16_t type = 0, mode = 0;
  std::uint32_t uid = 0, gid = 0, time = 0, number = 0, links = 1, device = 0;
  std::uint64_t size = 0, start = 0, sparse = 0;
  std::uint32_t offset = 0;  // of a folder: in its block; of a file: in its fragment
  std::uint32_t fragment = kNoFragment, attributes = kNoAttributes;
  std::string target;
};

/// Reads metadata blocks and the data of files. Members may be called from several threads.
class BlockReader {
 public:
  explicit BlockReader(SourcePtr image);
  virtual ~BlockReader() = default;
  BlockReader(const BlockReader&) = delete;
  BlockReader& operator=(const BlockReader&) = delete;

  /// Where a fragment lies. Throws Malformed.
  virtual FragmentRecord fragment_record(std::uint32_t index) = 0;
  BytesPtr fragment(std::uint32_t index);  ///< its unpacked bytes

  /// The blocks of a file, and what makes the bytes of each.
  std::vector<Block> blocks(const Inode& inode, const std::vector<std::uint32_t>& sizes) const;
  void decode(const Block& block, ByteSpan out);

 protected:
  virtual std::size_t unpack(ByteView packed, ByteSpan out) const = 0;  ///< throws Malformed

  MetaReader meta_reader(std::uint64_t block, std::uint64_t offset) { return {read_block_, block, offset}; }
  BytesPtr read_meta(std::uint64_t at, std::uint64_t& next);
  /// The words of a file's blocks, which follow its inode.
  void read_block_words(const Inode& inode, MetaReader& reader, std::vector<std::uint32_t>& words) const;

  SourcePtr image_, meta_;
  std::uint32_t block_size_ = 0;  // of a file's blocks, in bytes; whoever derives sets these three
  std::endian order_ = std::endian::little;
  std::size_t meta_head_ = 2;  // bytes in front of a metadata block

 private:
  std::size_t decode_data(std::uint64_t at, std::uint32_t word, ByteSpan out) const;

  BlockCache meta_blocks_{8 << 20}, fragments_{16 << 20};
  MetaReader::ReadBlock read_block_ = [this](std::uint64_t at, std::uint64_t& next) {
    return read_meta(at, next);
  };
};

}  // namespace operculum::squash
