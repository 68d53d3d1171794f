#pragma once

#include <optional>

#include "base/bytes.h"

namespace operculum::uefi {

/// A terse executable (PI specification, volume 1, chapter 15) as the PE image that it was made of: its
/// headers are made anew in the room that was stripped. Nothing when it is none, or the room is too small.
std::optional<Bytes> rebuild_te(ByteView te);

}  // namespace operculum::uefi
