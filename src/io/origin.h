#pragma once

#include <optional>
#include <string>

namespace operculum {

/// The extended attribute by which a desktop marks where a file was downloaded from (freedesktop.org, "Common
/// extended attributes").
inline constexpr const char* kOriginAttribute = "user.xdg.origin.url";

/// A file's origin mark; nothing when it has none.
std::optional<std::string> origin_of(const std::string& path);

}  // namespace operculum
