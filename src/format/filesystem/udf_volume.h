#pragma once

#include <optional>

#include "container/container.h"
#include "format/filesystem/udf_records.h"
#include "io/extent_source.h"

namespace operculum::udf {

/// Descriptor tags (ECMA-167, 3/7.2.1 and 4/7.2.1).
enum Tag : std::uint16_t {
  primary_volume_tag = 1,
  anchor_tag = 2,
  pointer_tag = 3,
  partition_tag = 5,
  logical_volume_tag = 6,
  terminator_tag = 8,
  integrity_tag = 9,
  file_set_tag = 256,
  file_identifier_tag = 257,
  allocation_extent_tag = 258,
  indirect_tag = 259,
  file_entry_tag = 261,
  extended_file_entry_tag = 266,
};

/// A place within a partition: long_ad without its length (ECMA-167, 4/14.14.2).
struct Address {
  std::uint32_t block = 0;
  std::uint16_t partition = 0;  ///< position in the logical volume's partition maps
};

/// A file entry or extended file entry (ECMA-167, 4/14.9 and 4/14.17).
struct FileEntry {
  std::uint8_t type = 0;
  std::uint16_t flags = 0, links = 0;
  std::uint32_t uid = 0, gid = 0, permissions = 0;
  std::uint64_t size = 0, blocks = 0;
  Timestamp accessed, modified, created, changed;
  std::uint32_t device_major = 0, device_minor = 0;
  Bytes allocation;  ///< descriptors of its extents, or the data itself
  Address at;
  static constexpr std::uint16_t kAllocationKind = 7, kEmbedded = 3;  // of `flags` (4/14.6.8)
  bool embedded() const { return (flags & kAllocationKind) == kEmbedded; }
};

/// One run of a file's allocation descriptors.
struct Run {
  std::uint64_t length = 0;  ///< bytes
  Address at;
  bool hole = false;
};

/// A volume's partitions, whatever lies between their blocks and the disc's.
class Volume {
 public:
  Volume(SourcePtr image, std::function<void(Finding::Level, std::string)> report);

  FileEntry entry(Address at) const;
  SourcePtr data(const FileEntry& entry) const;
  Address root() const { return root_; }
  std::uint64_t block_size() const { return block_size_; }

  std::string label, revision;
  std::uint64_t free_blocks = 0, total_blocks = 0;
  Timestamp recorded;

 private:
  static constexpr unsigned kMostMaps = 16;
  struct Extent32 {
    std::uint64_t block = 0, length = 0;
  };
  struct PhysicalPartition {
    std::uint16_t number = 0;
    std::uint64_t start = 0, length = 0;
  };

  void find_anchor();
  bool read_sequence(Extent32 extent);
  void take_logical_volume(ByteView raw);
  void open_maps();
  SourcePtr physical(std::uint16_t number) const;
  SourcePtr sparable(const SourcePtr& base, ByteView map) const;
  SourcePtr metadata(const SourcePtr& base, std::uint16_t index, ByteView map);
  SourcePtr virtual_partition(const SourcePtr& base, std::uint16_t base_index);
  void read_integrity(Extent32 extent);
  FileEntry parse_entry(ByteView raw, Address at) const;
  std::vector<Run> runs_of(const FileEntry& entry) const;
  Bytes more_descriptors(Address where) const;
  SourcePtr partition(std::uint16_t index) const;

  SourcePtr image_, meta_;
  std::function<void(Finding::Level, std::string)> report_;
  std::uint64_t sector_ = 2048, block_size_ = 2048;
  Extent32 main_, reserve_, integrity_;
  std::vector<PhysicalPartition> physical_;
  Bytes logical_volume_;
  std::vector<SourcePtr> partitions_;  // by map
  Address file_set_, root_;
};

/// True when the descriptor tag at the front of `raw` is of that kind and its checksums fit (ECMA-167,
/// 3/7.2).
bool has_tag(ByteView raw, std::uint16_t tag);

/// A name or label in OSTA compressed Unicode (UDF 2.60, 2.1.1) as UTF-8.
std::string unicode_of(ByteView raw);
Timestamp time_of(const TimeField& raw);

}  // namespace operculum::udf
