#pragma once

#include <string>

namespace operculum {

/// The SHA-256 that was published for the file at `path`, in lower-case digits. `from` is the digest itself,
/// or a list of lines "DIGEST  NAME" (also with "*" before the name, and "SHA256 (NAME) = DIGEST") in which
/// the file's name stands. Throws IoError, and Malformed when the file is not in the list.
std::string published_sha256(const std::string& from, const std::string& path);

}  // namespace operculum
