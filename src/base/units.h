#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace operculum {

/// "0 B", "812 B", "1.4 KiB", "40.2 MiB": binary multiples, one decimal.
std::string human_size(std::uint64_t bytes);

/// Reads "4096", "64K", "2MiB", "1 GiB" as bytes (binary multiples); nothing when it is no size.
std::optional<std::uint64_t> parse_size(std::string_view text);

/// "1 entry", "12,345 entries".
std::string counted(std::uint64_t count, std::string_view one, std::string_view many);

/// With the article that it is spoken with: "a ZIP archive", "an ext2 file system", "an NTFS volume", "an xz
/// file".
std::string with_article(std::string_view words);

/// "12,345".
std::string grouped(std::uint64_t number);

}  // namespace operculum
