#pragma once

#include <functional>
#include <optional>
#include <vector>

#include "container/container.h"

namespace operculum::iso {

constexpr std::uint64_t kSector = 2048;  ///< logical sector, bytes

/// What Rock Ridge (IEEE P1282) and zisofs add to a folder record.
struct RockRidge {
  bool any = false;  ///< one of its fields was there
  std::optional<std::string> name;
  std::optional<std::uint32_t> mode;
  std::uint32_t links = 1, uid = 0, gid = 0, inode = 0, device_major = 0, device_minor = 0;
  std::string target;
  Timestamp created, modified, accessed, changed;
  std::optional<std::uint32_t> child;         ///< sector where a relocated folder really is
  bool relocated = false;                     ///< it is shown elsewhere
  std::optional<std::uint64_t> virtual_size;  ///< of a sparse file
  unsigned table_depth = 0;
  bool zisofs = false;
  std::uint64_t unpacked_size = 0;
};

/// One folder record (ECMA-119, 9.1).
struct Record {
  std::uint64_t extent = 0, size = 0;  ///< sector, bytes
  std::uint8_t flags = 0;
  std::uint8_t unit = 0;  ///< of an interleaved file
  Timestamp modified;
  Bytes raw_name;
  RockRidge ridge;
  bool is_folder() const { return (flags & 2) != 0; }
  bool goes_on() const { return (flags & 0x80) != 0; }  ///< the next record is its next extent
  bool is_self_or_parent() const { return raw_name.size() == 1 && raw_name[0] <= 1; }
};

/// Reads records; `skip` bytes of each system use area belong to someone else (SUSP, 5.3).
class RecordReader {
 public:
  RecordReader(SourcePtr image, std::uint64_t block) : image_(std::move(image)), block_(block) {}

  /// The record at the front of `raw`. Throws Malformed.
  Record read(ByteView raw, bool with_ridge) const;
  /// The system use fields of a record, those of its continuation areas among them; not the ones that lead
  /// there or end the list. Throws Malformed.
  std::vector<Bytes> fields(ByteView raw) const;
  /// What of the system use area belongs to someone else.
  ByteView foreign(ByteView raw) const;
  /// Looks for the mark of the sharing protocol in the root folder's own record; true when Rock Ridge may
  /// follow.
  bool find_protocol(ByteView own_record);

 private:
  ByteView area_of(ByteView raw) const;
  using TakeField = std::function<void(ByteView field)>;
  void each_field(ByteView area, const TakeField& take) const;

  SourcePtr image_;
  std::uint64_t block_;
  std::size_t skip_ = 0;
};

/// Dates of 7 bytes (ECMA-119, 9.1.5) and of 17 (8.4.26.1).
Timestamp short_date(ByteView raw);
Timestamp long_date(ByteView raw);

}  // namespace operculum::iso
