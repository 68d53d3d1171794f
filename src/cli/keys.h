#pragma once

#include <optional>
#include <string>

#include "cipher/key_ring.h"

namespace operculum::cli {

/// The first line of a file, without its line end; blanks at its ends stay. Throws IoError.
std::string read_password_file(const std::string& path);

/// Adds the keys of keys.toml: tables [[key]] with `for` (a glob on container names), `password` or `hex`,
/// and `name` for a key that descriptions ask for by that name. Nothing when there is no such file; throws
/// Malformed with the line when it cannot be understood.
void read_key_file(const std::string& path, KeyRing& keys);

/// Asks on the terminal without echo; nothing when there is none, or at an empty answer.
std::optional<std::string> ask_password(const std::string& container);

}  // namespace operculum::cli
