#pragma once

#include "base/bytes.h"
#include "base/time.h"
#include "format/filesystem/new_tree.h"

namespace operculum::iso {

/// Numbers in both byte orders, little-endian first (ECMA-119, 7.2.3 and 7.3.3), put over `out`.
void put_both16(Byte* out, std::uint16_t value);
void put_both32(Byte* out, std::uint32_t value);

/// Places of a folder record's fields, in bytes (ECMA-119, 9.1).
constexpr std::size_t kExtentAt = 2, kSizeAt = 10, kDateAt = 18, kFlagsAt = 25, kNameLengthAt = 32,
                      kNameAt = 33;
constexpr std::size_t kLongestRecord = 254;
constexpr std::uint8_t kFolderFlag = 2, kGoesOnFlag = 0x80;

/// A folder record; `area` is its system use area.
Bytes folder_record(std::uint32_t extent, std::uint32_t size, const Timestamp& time, std::uint8_t flags,
                    ByteView name, ByteView area);

/// A date of 7 bytes (9.1.5), in UTC; zeros where it is not known.
Bytes short_date_bytes(const Timestamp& time);
/// A date of 17 bytes (8.4.26.1).
Bytes long_date_bytes(const Timestamp& time);

/// A system use field: its two letters, its contents.
Bytes system_use_field(std::string_view letters, ByteView contents);

/// What Rock Ridge says of a thing: PX, PN, TF, NM and SL (IEEE P1282, 4.1), one field each.
std::vector<Bytes> ridge_fields(const std::string& name, const TreeNode& node);
/// NM alone: of a name that changes.
std::vector<Bytes> name_fields(const std::string& name);

}  // namespace operculum::iso
