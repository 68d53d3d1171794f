#pragma once

#include <string_view>

namespace operculum::layout {

/// What `file_stem` gives in a description: a file's name without its ending; the whole name where nothing
/// stands in front of its only dot.
inline std::string_view file_stem(std::string_view name) {
  std::size_t dot = name.rfind('.');
  return dot == std::string_view::npos || dot == 0 ? name : name.substr(0, dot);
}

}  // namespace operculum::layout
