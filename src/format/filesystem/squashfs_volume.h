#pragma once

#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "codec/block.h"
#include "format/filesystem/squashfs_records.h"
#include "io/block_cache.h"
#include "io/block_source.h"

/// The structures of a SquashFS 4.0 image, after the Linux kernel's documentation (filesystems/squashfs) and
/// its disk format header.
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

/// Reads inodes, attributes and data. Members may be called from several threads.
class Volume {
 public:
  explicit Volume(SourcePtr image);  ///< throws Malformed and Unsupported
  Volume(const Volume&) = delete;
  Volume& operator=(const Volume&) = delete;

  const Super& super() const { return super_; }
  BlockCodec codec() const { return codec_; }
  Bytes codec_options();  ///< as they lie there; empty where there are none. Throws Malformed

  /// Reads the table of owners, by which inodes name theirs. Throws Malformed; what came before is kept.
  void read_ids();

  /// The inode that a reference leads to, with the packed sizes of a file's blocks where they are wanted.
  Inode inode(std::uint64_t ref, std::vector<std::uint32_t>* block_sizes = nullptr);
  /// Where a folder's rows begin; they take inode.size - 3 bytes.
  MetaReader folder(const Inode& inode);
  std::vector<std::pair<std::string, std::string>> attributes(std::uint32_t index);

  /// The unpacked bytes of a fragment, and where it lies.
  BytesPtr fragment(std::uint32_t index);
  FragmentRecord fragment_record(std::uint32_t index);

  /// The blocks of a file, and what makes the bytes of each.
  std::vector<Block> blocks(const Inode& inode, const std::vector<std::uint32_t>& sizes) const;
  void decode(const Block& block, ByteSpan out);

 private:
  BytesPtr read_meta(std::uint64_t at, std::uint64_t& next);
  Bytes table_record(std::uint64_t list, std::uint64_t index, std::size_t record);
  std::uint32_t id(std::uint16_t index) const { return index < ids_.size() ? ids_[index] : 0; }
  void read_file(Inode& n, MetaReader& reader, std::vector<std::uint32_t>* block_sizes) const;
  std::size_t decode_data(std::uint64_t at, std::uint32_t word, ByteSpan out) const;

  SourcePtr image_, meta_;
  Super super_;
  BlockCodec codec_ = BlockCodec::stored;
  std::vector<std::uint32_t> ids_;
  BlockCache meta_blocks_{8 << 20}, fragments_{16 << 20};
  MetaReader::ReadBlock read_block_ = [this](std::uint64_t at, std::uint64_t& next) {
    return read_meta(at, next);
  };
};

}  // namespace operculum::squash
