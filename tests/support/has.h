#pragma once

#include <string>
#include <string_view>

namespace operculum::test {

/// Whether a text has this part somewhere.
inline bool has(const std::string& text, std::string_view part) {
  return text.find(part) != std::string::npos;
}

}  // namespace operculum::test
