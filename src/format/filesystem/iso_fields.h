#pragma once

#include "base/bytes.h"
#include "base/time.h"
#include "format/filesystem/iso_records.h"
#include "format/filesystem/new_tree.h"

namespace operculum::iso {

/// A folder record; `area` is its system use area.
Bytes folder_record(std::uint32_t extent, std::uint32_t size, const Timestamp& time, std::uint8_t flags,
                    ByteView name, ByteView area);

/// Lets a record lead to data; all else of it stays.
void set_place(Byte* record, std::uint64_t extent, std::uint64_t size);

/// A date of 7 bytes (9.1.5), in UTC; zeros where it is not known.
std::array<Byte, 7> short_date_bytes(const Timestamp& time);
/// A date of 17 bytes (8.4.26.1).
std::array<Byte, 17> long_date_bytes(const Timestamp& time);

/// A system use field: its two letters, its contents.
Bytes system_use_field(std::string_view letters, ByteView contents);
/// The same of a structure, which knows its head's room.
template <typename S>
requires requires {
  S::layout;
}
Bytes system_use_field(std::string_view letters, const S& contents) {
  Bytes all(size_on_disk<S>);
  write_structure(contents, all.data());
  return system_use_field(letters, ByteView(all).subspan(use_head_size));
}

/// What Rock Ridge says of a thing: PX, PN, TF, NM and SL (IEEE P1282, 4.1), one field each.
std::vector<Bytes> ridge_fields(const std::string& name, const TreeNode& node);
/// NM alone: of a name that changes.
std::vector<Bytes> name_fields(const std::string& name);

}  // namespace operculum::iso
