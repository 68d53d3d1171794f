#pragma once

#include <optional>

#include "container/container.h"
#include "format/filesystem/ntfs_records.h"
#include "io/extent_source.h"

namespace operculum::ntfs {

/// Kinds of attributes (Attribute Type Code).
enum AttributeType : std::uint32_t {
  standard_information_attribute = 0x10,
  attribute_list_attribute = 0x20,
  file_name_attribute = 0x30,
  volume_name_attribute = 0x60,
  volume_information_attribute = 0x70,
  data_attribute = 0x80,
  index_root_attribute = 0x90,
  index_allocation_attribute = 0xA0,
  bitmap_attribute = 0xB0,
  reparse_point_attribute = 0xC0,
  end_attribute = 0xFFFFFFFF,
};
/// How an attribute's data is stored.
enum AttributeFlag : std::uint16_t {
  compressed_attribute_flag = 0x0001,
  encrypted_attribute_flag = 0x4000,
  sparse_attribute_flag = 0x8000
};

/// Clusters one after another; without a place they read as zeros.
struct Run {
  std::uint64_t first = 0;  ///< within the attribute, in clusters
  std::uint64_t count = 0;
  std::optional<std::uint64_t> place;  ///< on the volume
};

/// An attribute of a file, put together from all records that hold a part of it.
struct Attribute {
  std::uint32_t type = 0;
  std::string name;  ///< UTF-8
  std::uint16_t flags = 0;
  bool resident = true;
  Bytes value;  ///< when resident
  std::vector<Run> runs;
  std::uint64_t size = 0, initialised = 0, allocated = 0;  ///< bytes
  unsigned unit_bits = 0;  ///< of a compression unit, in clusters, as a power of two
};

/// A file record, its fixups undone.
struct Record {
  std::uint64_t number = 0;
  std::uint16_t sequence = 0, flags = 0;
  std::vector<Attribute> attributes;
  bool in_use() const { return (flags & record_in_use) != 0; }
  bool is_folder() const { return (flags & record_is_folder) != 0; }
  const Attribute* find(std::uint32_t type, std::string_view name = "") const;
};

/// What the boot sector tells; bytes unless said otherwise.
struct Boot {
  std::uint64_t sector = 0, cluster = 0, size = 0, record = 0, index_block = 0;
  std::uint64_t table = 0, mirror = 0;  ///< of the master file table
  std::uint64_t serial = 0;
};
/// Throws Malformed unless it is an NTFS boot sector that makes sense.
Boot read_boot(ByteView raw);

/// The records of an NTFS volume, read as they are wanted.
class Volume {
 public:
  Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report);

  const Boot& boot() const { return boot_; }
  const SourcePtr& image() const { return image_; }
  std::uint64_t records() const { return table_->size() / boot_.record; }
  /// A file's record with everything that its attribute list adds. Throws Malformed.
  Record record(std::uint64_t number) const;
  /// The bytes of an attribute; throws Unsupported when they are encrypted.
  ContentPtr content(const Attribute& attribute) const;
  SourcePtr data(const Attribute& attribute) const { return content(attribute)->source(); }

 private:
  Bytes raw_record(const Source& table, std::uint64_t number) const;
  void parse(ByteView raw, std::uint64_t number, Record& out) const;
  void add_part(Attribute&& part, std::uint64_t first, std::vector<Attribute>& out) const;
  void add_listed(const Attribute& list, std::uint64_t own, Record& out) const;
  SourcePtr plain(const Attribute& attribute) const;
  ContentPtr compressed(const Attribute& attribute) const;

  SourcePtr image_, meta_, table_;
  Boot boot_;
};

/// Undoes the replacement of each sector's last two bytes in a record or index block. Throws Malformed.
void fix_up(ByteSpan raw, std::string_view mark);

}  // namespace operculum::ntfs
