#pragma once

#include <optional>
#include <string>

#include "base/bytes.h"

namespace operculum {

/// Kinds of reparse points that lead elsewhere ([MS-FSCC] 2.1.2.1).
enum ReparseTag : std::uint32_t {
  kReparseMountPoint = 0xA0000003,
  kReparseSymbolicLink = 0xA000000C,
  kReparseUnixLink = 0xA000001D,
  kReparseOverlay = 0x80000017,
};

/// Where a reparse point ([MS-FSCC] 2.1.2) leads, from what follows its header of eight bytes; nothing when
/// `tag` is that of no link. Throws Malformed.
std::optional<std::string> reparse_target(std::uint32_t tag, ByteView data);

}  // namespace operculum
