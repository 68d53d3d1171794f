#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>

namespace operculum {

/// Of entries with equal paths each can be named by its number: "deep/a~2.txt" is the second "deep/a.txt".
struct NumberedPath {
  std::string plain;   ///< without the number
  std::size_t number;  ///< from 1 on; larger than any count where it does not fit

  static std::optional<NumberedPath> parse(std::string_view path);
};

}  // namespace operculum
