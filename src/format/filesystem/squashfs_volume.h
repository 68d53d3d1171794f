#pragma once

#include <string>
#include <utility>
#include <vector>

#include "base/facts.h"
#include "codec/block.h"
#include "format/filesystem/squashfs_blocks.h"

/// The structures of a SquashFS 4.0 image, after the Linux kernel's documentation (filesystems/squashfs) and
/// its disk format header.
namespace operculum::squash {

/// Reads inodes, attributes and data. Members may be called from several threads.
class Volume final : public BlockReader {
 public:
  explicit Volume(SourcePtr image);  ///< throws Malformed and Unsupported

  const Super& super() const { return super_; }
  BlockCodec codec() const { return codec_; }
  Bytes codec_options();  ///< as they lie there; empty where there are none. Throws Malformed

  /// Reads the table of owners, by which inodes name theirs. Throws Malformed; what came before is kept.
  void read_ids();

  /// The inode that a reference leads to, with the packed sizes of a file's blocks where they are wanted.
  Inode inode(std::uint64_t ref, std::vector<std::uint32_t>* block_sizes = nullptr);
  /// Where a folder's rows begin; they take inode.size - 3 bytes.
  MetaReader folder(const Inode& inode);
  ExtendedAttributes attributes(std::uint32_t index);

  FragmentRecord fragment_record(std::uint32_t index) override;

 private:
  std::size_t unpack(ByteView packed, ByteSpan out) const override;
  Bytes table_record(std::uint64_t list, std::uint64_t index, std::size_t record);
  std::uint32_t id(std::uint16_t index) const { return index < ids_.size() ? ids_[index] : 0; }
  void read_file(Inode& n, MetaReader& reader, std::vector<std::uint32_t>* block_sizes) const;

  Super super_;
  BlockCodec codec_ = BlockCodec::stored;
  std::vector<std::uint32_t> ids_;
};

}  // namespace operculum::squash
