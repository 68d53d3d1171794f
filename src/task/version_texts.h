#pragma once

#include <string>
#include <vector>

#include "io/source.h"

namespace operculum {

/// Texts within some bytes that tell a version or a date, as programs carry them for people who hold only the
/// file: "tide gauge firmware 2.4.1 (Mar 01 2026 - 14:05:08)". The first ones, each once; bytes beyond 64 MiB
/// are not looked at.
std::vector<std::string> version_texts(const Source& bytes, std::size_t most = 8);

}  // namespace operculum
