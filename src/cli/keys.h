#pragma once

#include <optional>
#include <string>

#include "cipher/key_ring.h"

namespace operculum::cli {

/// The first line of a file, without its line end; blanks at its ends stay. Throws IoError.
std::string read_password_file(const std::string& path);

/// All bytes of a file that is a key. Throws IoError, Malformed for one that is empty or above 8 MiB.
std::string read_key(const std::string& path);

/// Adds the keys of keys.toml: tables [[key]] with `for` (a glob on container names), `password`, `hex` or
/// `file` (relative paths begin at the folder of keys.toml), and `name` for a key that descriptions ask for
/// by that name. Nothing when there is no such file; throws Malformed with the line when it cannot be
/// understood.
void read_key_file(const std::string& path, KeyRing& keys);

/// Asks on the terminal without echo, `again` when the last answer was wrong; nothing when there is no
/// terminal, at an empty answer, or when a signal came meanwhile.
std::optional<std::string> ask_password(const std::string& container, bool again);

/// Asks on the terminal whether a description that is a stranger's may have a key.
bool confirm_key(const std::string& description, const std::string& key);

}  // namespace operculum::cli
