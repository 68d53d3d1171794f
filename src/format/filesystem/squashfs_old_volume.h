#pragma once

#include <optional>

#include "format/filesystem/squashfs_blocks.h"
#include "format/filesystem/squashfs_old_records.h"

/// The structures of SquashFS 2.x and 3.x images, in both byte orders.
namespace operculum::squash_old {

/// The superblock's numbers, from wherever its version keeps them; places and sizes are bytes.
struct Front {
  std::endian order = std::endian::little;
  Super super;
  WideSuper places;
};

/// What stands at the front of an image; nothing where that is no superblock of version 1 to 3.
std::optional<Front> read_super(ByteView head);
constexpr std::size_t kSuperSizes = kSuperSize + bit_structure_size<WideSuper>();  // of all of it, in bytes

/// Reads inodes and data. Members may be called from several threads. Blocks are packed by zlib; makers of
/// devices put LZMA in its place, with a header of 13 bytes, with the 5 of them that are no size, or without
/// any: which, each block tells.
class OldVolume final : public squash::BlockReader {
 public:
  OldVolume(SourcePtr image, const Front& front);  ///< throws Malformed and Unsupported

  const Front& front() const { return front_; }
  std::string_view packing();  ///< of its metadata: "zlib", "lzma" or "stored"

  /// The inode that a reference leads to, with the words of a file's blocks where they are wanted.
  squash::Inode inode(std::uint64_t ref, std::vector<std::uint32_t>* block_words = nullptr);

  /// One row of a folder.
  struct Row {
    std::uint64_t ref;
    unsigned type;
    std::string name;
  };
  void rows(const squash::Inode& folder, const std::function<void(Row&&)>& visitor);

  squash::FragmentRecord fragment_record(std::uint32_t index) override;

 private:
  std::size_t unpack(ByteView packed, ByteSpan out) const override;
  template <typename S>
  S take(squash::MetaReader& reader) const {
    return read_bit_structure<S>(reader.take(bit_structure_size<S>()).data(), front_.order);
  }
  bool wide() const { return front_.super.major == 3; }
  void read_owners();
  void take_links(squash::Inode& n, squash::MetaReader& reader) const;
  template <typename Record>
  void take_folder(squash::Inode& n, squash::MetaReader& reader) const;
  template <typename Record>
  void take_file(squash::Inode& n, squash::MetaReader& reader) const;
  template <typename Record>
  squash::FragmentRecord fragment_of(std::uint32_t index);

  Front front_;
  std::vector<std::uint32_t> users_, groups_;
};

}  // namespace operculum::squash_old
