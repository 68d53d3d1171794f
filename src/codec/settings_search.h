#pragma once

#include <vector>

#include "codec/codec.h"

namespace operculum {

/// What the head of packed data shows of how it was packed (block and window sizes, checksums, filters), with
/// the level that is likeliest. `plain_size` is that of what was packed, in bytes.
PackSettings shown_settings(std::string_view codec, const Source& packed, std::uint64_t plain_size);

/// The settings with which our encoders make exactly the bytes of `packed` out of `plain`: candidates that
/// its head allows are tried, the fastest first, each only up to the first byte that differs, and at most for
/// 1 MiB. Nothing when none does: another encoder made it. Throws what `plain` throws.
std::optional<PackSettings> find_settings(std::string_view codec, const SourcePtr& packed,
                                          const Content& plain, std::uint64_t plain_size);

}  // namespace operculum
