#pragma once

#include <optional>
#include <string_view>

#include "container/rewrite.h"

namespace operculum {

/// The data of `run` for an entry or file that is packed by `codec`: its bytes as they lie, measured by being
/// decoded where its checksum is not known; bytes behind its end are left out. Deflate data is also taken out
/// of zlib's wrapper (RFC 1950). Nothing where that is another codec's data, or does not decode.
std::optional<PackedContent> taken_over(const PackedRun& run, std::string_view codec);

/// Deflate data as a gzip file (RFC 1952) that states no name and no time.
SourcePtr as_gzip(const PackedContent& deflate);

}  // namespace operculum
