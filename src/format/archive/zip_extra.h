#pragma once

#include "format/archive/zip_records.h"

namespace operculum::zip {

// Extra fields as they are kept, put in and taken out when headers are written.

/// `extra` without the fields of these ids; what is behind the last field stays.
Bytes without_fields(ByteView extra, std::initializer_list<std::uint16_t> ids);

/// Whether there is a field of this id.
bool has_field(ByteView extra, std::uint16_t id);

/// `extra` with one more field at its front, where readers look for the Zip64 one.
Bytes with_field(ByteView extra, std::uint16_t id, ByteView data);

/// Puts sizes that do not fit into 32 bits (in a local header both, when one does not or `always`) into a
/// Zip64 field, and all ones into the header (4.5.3). Other fields of `extra` stay as they are. Returns the
/// extra field; the header's views are not touched.
Bytes widen(LocalHeader& header, ByteView extra, bool always);
/// The same for the central header, whose field holds just what does not fit, and what was in it before: the
/// members that are all ones in `before`.
Bytes widen(CentralHeader& header, ByteView extra, const CentralHeader& before);

/// Bytes of a local header that only fill up to where the data is to begin: an alignment field, or zeros
/// behind the last field.
struct Padding {
  std::size_t size = 0;               ///< in bytes, with the field's own header
  std::uint16_t field_alignment = 0;  ///< of an alignment field: what it states; 0: plain zeros
};
Padding padding_of(ByteView extra);

/// `extra` with as many bytes of padding, of the kind that was there, as make the data begin at a multiple of
/// `alignment` when `data_at` is where it would begin with no extra field at all.
Bytes aligned(ByteView extra, std::uint64_t data_at, std::uint64_t alignment);

}  // namespace operculum::zip
