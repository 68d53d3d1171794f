#pragma once

#include "container/rewrite.h"
#include "format/archive/zip_extra.h"
#include "format/archive/zip_packer.h"

namespace operculum::zip {

/// An entry that is about to be written: both of its headers, which own their names and fields here, and its
/// data. Sizes in the headers are the true ones, whatever their width on disk.
struct Record {
  LocalHeader local;
  CentralHeader central;
  std::string name;  ///< as stored
  Bytes local_extra, central_extra;
  std::string comment;
  PackedContent data;
  std::uint16_t flags_before = 0;  ///< of the local header that this one replaces
  bool wide = false;               ///< its local header has 64-bit sizes, and so has its descriptor

  /// The local header as it is written; sizes are zeros where a descriptor tells them, unless `sizes_twice`.
  Bytes local_bytes(bool sizes_twice) const;
  /// The central header as it is written; members that are all ones in `before` stay in the Zip64 field.
  Bytes central_bytes(const CentralHeader& before) const;
};

/// A data descriptor's form (4.3.9).
struct DescriptorForm {
  bool has_mark = true;
  bool wide = false;  ///< sizes of 64 bits
  std::size_t size() const { return (has_mark ? 4u : 0u) + 4u + (wide ? 16u : 8u); }
};
Bytes descriptor_bytes(const DescriptorForm& form, const LocalHeader& header);

/// The name of a path as ZIP stores it: folders end in a slash.
std::string stored_name(const std::string& path, EntryKind kind);

/// A record of a new entry, made on Unix: its mode, kind and time, and the extended time field when `times`.
Record new_record(const NewEntry& entry, bool times);

/// The archive's end: records behind a directory of this place, these sizes and this many entries.
Bytes end_bytes(std::uint64_t directory_at, std::uint64_t directory_size, std::uint64_t count);

/// The content of a new entry of any kind: a link's is its target, a folder has none.
ContentPtr content_of(const NewEntry& entry);

/// Makes data that is packed already that of the entry; `flags` tell how it was packed.
void take_over(Record& record, PackedContent packed, std::uint16_t method, std::uint16_t flags = 0);

/// Packs the entry's content into its record, by `method` and `settings`.
void pack_into(Record& record, const Content& content, std::uint16_t method, const PackSettings& settings,
               SpoolBudget& spool);

}  // namespace operculum::zip
