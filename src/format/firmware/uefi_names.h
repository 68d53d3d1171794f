#pragma once

#include <array>
#include <string>
#include <string_view>

#include "base/bytes.h"

namespace operculum::uefi {

using Guid = std::array<Byte, 16>;  ///< as it lies on disk

/// "8c8ce578-8a3d-4f1c-9935-896185c32dd3".
std::string text_of(const Guid& guid);

/// The published name of a GUID (UEFI and PI specifications, their reference implementation); empty: not
/// known.
std::string_view name_of(const Guid& guid);

/// Its name, or else its text.
std::string name_or_text(const Guid& guid);

/// Whether a GUID is the one that is written so.
bool is(const Guid& guid, std::string_view text);

std::string file_type_name(std::uint8_t type);     ///< EFI_FV_FILETYPE, in words
std::string section_type_name(std::uint8_t type);  ///< EFI_SECTION_TYPE, in words

/// A dependency expression as lines of text (PI specification, volume 1, section 10.7): "PUSH name", "AND",
/// ...
std::string depex_text(ByteView expression);

/// Text of 16-bit characters, up to its zero.
std::string wide_text(ByteView raw);

}  // namespace operculum::uefi
