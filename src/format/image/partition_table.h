#pragma once

#include "base/facts.h"
#include "base/structure.h"
#include "container/format.h"

namespace operculum {

/// A range of a disk that a partition table names.
struct Partition {
  std::string path;                     ///< its number
  std::string name;                     ///< where the table has one
  std::string type;                     ///< in words
  std::uint64_t start = 0, length = 0;  ///< bytes
};

/// What was read of a partition table.
struct PartitionTable {
  std::vector<Partition> partitions;
  std::vector<std::pair<std::uint64_t, std::uint64_t>>
      taken;  ///< other ranges in use: begin and end, in bytes
  Facts facts;
  std::vector<Finding> findings;
  std::uint64_t sector = 512;  ///< bytes
};

/// A container of the partitions and, under names of their own, of what no partition covers. A locator may
/// use a partition's name instead of its number.
ContainerPtr make_partitions(SourcePtr disk, PartitionTable table);

/// The four rows of an MBR, or of an extended boot record.
struct MbrRow {
  std::uint8_t status = 0, type = 0;
  std::uint32_t start = 0, count = 0;  ///< sectors
  static constexpr auto layout =
      little_endian(field("status", &MbrRow::status), from_byte<4>(), field("type", &MbrRow::type),
                    from_byte<8>(), field("first sector", &MbrRow::start), field("sectors", &MbrRow::count));
};
constexpr std::size_t mbr_rows_at = 446, mbr_row_size = size_on_disk<MbrRow>;
/// Nothing when the 512 bytes are no boot record with a sensible table.
std::optional<std::vector<MbrRow>> read_mbr(ByteView sector);

std::string mbr_type_name(std::uint8_t type);
bool is_extended(std::uint8_t type);

}  // namespace operculum
