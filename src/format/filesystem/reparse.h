#pragma once

#include <optional>
#include <string>

#include "base/bytes.h"

namespace operculum {

/// Kinds of reparse points that lead elsewhere ([MS-FSCC] 2.1.2.1).
enum ReparseTag : std::uint32_t {
  reparse_mount_point = 0xA0000003,
  reparse_symbolic_link = 0xA000000C,
  reparse_unix_link = 0xA000001D,
  reparse_overlay = 0x80000017,
};

/// Where a reparse point ([MS-FSCC] 2.1.2) leads, from what follows its header of eight bytes; nothing when
/// `tag` is that of no link. Throws Malformed.
std::optional<std::string> reparse_target(std::uint32_t tag, ByteView data);

}  // namespace operculum
