#pragma once

#include <functional>
#include <map>
#include <mutex>

#include "base/structure.h"
#include "base/time.h"
#include "container/container.h"
#include "io/mapped_source.h"

namespace operculum::nilfs {

// NILFS2, a log-structured file system, after the structures that the Linux kernel publishes
// (include/uapi/linux/nilfs2_ondisk.h) and its documentation (filesystems/nilfs2).
//
// The disk is a row of segments, each filled with logs: a summary, blocks of files, and, at the end of a
// checkpoint, the super root with the inodes of three files: DAT (where virtual block numbers lie), cpfile
// (the checkpoints), sufile (use of segments). Each checkpoint has the inode of an ifile with all inodes of
// that moment. Files are B-trees of virtual block numbers; the DAT is one of real ones. Nothing is written
// over, so old checkpoints stay readable.

constexpr std::uint64_t kRootInode = 2;
constexpr std::size_t kBmapSize = 56;
constexpr std::uint16_t kMagic = 0x3434;

/// struct nilfs_super_block.
struct Superblock {
  std::uint32_t rev_level = 0;
  std::uint16_t magic = 0, bytes = 0;
  std::uint32_t crc_seed = 0, sum = 0, log_block_size = 0;
  std::uint64_t nsegments = 0, dev_size = 0, first_data_block = 0;
  std::uint32_t blocks_per_segment = 0;
  std::uint64_t last_cno = 0, last_pseg = 0, last_seq = 0, free_blocks_count = 0, ctime = 0;
  std::uint16_t state = 0, inode_size = 0, dat_entry_size = 0, checkpoint_size = 0;
  std::array<Byte, 16> uuid = {};
  std::array<Byte, 80> volume_name = {};
  std::uint64_t feature_incompat = 0;
  static constexpr auto layout = little_endian(
      field("s_rev_level", &Superblock::rev_level), from_byte<6>(), field("s_magic", &Superblock::magic),
      field("s_bytes", &Superblock::bytes), from_byte<12>(), field("s_crc_seed", &Superblock::crc_seed),
      field("s_sum", &Superblock::sum), field("s_log_block_size", &Superblock::log_block_size),
      field("s_nsegments", &Superblock::nsegments), field("s_dev_size", &Superblock::dev_size),
      field("s_first_data_block", &Superblock::first_data_block),
      field("s_blocks_per_segment", &Superblock::blocks_per_segment), from_byte<56>(),
      field("s_last_cno", &Superblock::last_cno), field("s_last_pseg", &Superblock::last_pseg),
      field("s_last_seq", &Superblock::last_seq),
      field("s_free_blocks_count", &Superblock::free_blocks_count), field("s_ctime", &Superblock::ctime),
      from_byte<116>(), field("s_state", &Superblock::state), from_byte<144>(),
      field("s_inode_size", &Superblock::inode_size), field("s_dat_entry_size", &Superblock::dat_entry_size),
      field("s_checkpoint_size", &Superblock::checkpoint_size), from_byte<152>(),
      field("s_uuid", &Superblock::uuid), field("s_volume_name", &Superblock::volume_name), from_byte<272>(),
      field("s_feature_incompat", &Superblock::feature_incompat));

  std::uint64_t block() const { return std::uint64_t{1024} << log_block_size; }  ///< bytes
};

/// struct nilfs_inode.
struct Inode {
  std::uint64_t blocks = 0, size = 0, ctime = 0, mtime = 0;
  std::uint32_t ctime_nsec = 0, mtime_nsec = 0, uid = 0, gid = 0;
  std::uint16_t mode = 0, links = 0;
  std::array<Byte, kBmapSize> bmap = {};
  static constexpr auto layout =
      little_endian(field("i_blocks", &Inode::blocks), field("i_size", &Inode::size),
                    field("i_ctime", &Inode::ctime), field("i_mtime", &Inode::mtime),
                    field("i_ctime_nsec", &Inode::ctime_nsec), field("i_mtime_nsec", &Inode::mtime_nsec),
                    field("i_uid", &Inode::uid), field("i_gid", &Inode::gid), field("i_mode", &Inode::mode),
                    field("i_links_count", &Inode::links), from_byte<56>(), field("i_bmap", &Inode::bmap));
};

/// What a device has in place of a map: its number.
struct DeviceMap {
  std::uint32_t code = 0;
  static constexpr auto layout = little_endian(field("i_device_code", &DeviceMap::code));
};

/// struct nilfs_checkpoint, but the ifile's inode at its end.
struct Checkpoint {
  std::uint32_t flags = 0;
  std::uint64_t cno = 0, create = 0, inodes_count = 0, blocks_count = 0;
  static constexpr std::size_t inode_at = 64;
  static constexpr auto layout =
      little_endian(field("cp_flags", &Checkpoint::flags), from_byte<24>(), field("cp_cno", &Checkpoint::cno),
                    field("cp_create", &Checkpoint::create), from_byte<48>(),
                    field("cp_inodes_count", &Checkpoint::inodes_count),
                    field("cp_blocks_count", &Checkpoint::blocks_count));

  bool is_snapshot() const { return (flags & 1) != 0; }
  bool is_there() const { return (flags & 2) == 0 && cno != 0; }
};

/// Throws Malformed unless the 1,024 bytes are a superblock that makes sense and fits its checksum.
Superblock read_superblock(ByteView raw);

/// The files of a NILFS2 file system, read as they are wanted.
class Volume {
 public:
  /// `report` is told what is wrong but can be read nevertheless.
  Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report);

  const Superblock& super() const { return super_; }
  std::uint64_t newest() const { return newest_; }  ///< number of the newest checkpoint

  /// All checkpoints, in their order.
  void checkpoints(const std::function<void(const Checkpoint&)>& take) const;
  /// An inode at the time of a checkpoint.
  Inode inode(std::uint64_t number, std::uint64_t checkpoint) const;
  SourcePtr data(const Inode& inode) const;

 private:
  void find_super_root(const std::function<void(Finding::Level, std::string)>& report);
  SourcePtr file(const Inode& inode, std::uint64_t size) const;
  Bytes checkpoint_at(std::uint64_t number) const;
  SourcePtr inodes_of(std::uint64_t checkpoint) const;

  SourcePtr image_, meta_;
  Superblock super_;
  std::uint64_t newest_ = 0;
  SourcePtr dat_, checkpoints_;
  mutable std::mutex mutex_;
  mutable std::map<std::uint64_t, SourcePtr> inode_files_;  // by checkpoint
};

}  // namespace operculum::nilfs
