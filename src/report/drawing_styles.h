#pragma once

#include <cstdint>
#include <string_view>

namespace operculum {

/// A colour that depends on the screen: what it is called in a page, in light and in dark.
struct ThemeColour {
  std::string_view name;
  std::uint32_t light, dark;  ///< 0xRRGGBB
};
inline constexpr ThemeColour kThemeColours[] = {
    {"ink", 0x1D2B33, 0xE4E9EA},  {"soft", 0x5B6B73, 0x9FB0B7}, {"line", 0xD5DDE0, 0x35444B},
    {"mark", 0x0B6E75, 0x6FC3C9}, {"box", 0xF1F4F2, 0x1C262B},
};

/// How shapes of a name look. A colour is "#rrggbb", the name of a ThemeColour, or empty: none.
struct ShapeStyle {
  std::string_view name, fill, stroke;
  double stroke_width = 0;
  double font_size = 0;  ///< of words
  bool monospace = false;
};
inline constexpr ShapeStyle kShapeStyles[] = {
    // how bytes look
    {"filling", "#c9cfd1"},
    {"text", "#7fae5b"},
    {"structured", "#d9a441"},
    {"dense", "#7a6bb0"},
    {"inside", "", "ink", .8},
    // what a description makes of them
    {"header", "#0b6e75"},
    {"index", "#2f8fd0"},
    {"data", "#9bb8a6"},
    {"padding", "#c9cfd1"},
    {"open", "#d0532f"},
    // what a column means
    {"place", "#58b3ba"},
    {"size", "#e0b45c"},
    {"unpacked", "#9cc77c"},
    {"name", "#86bdea"},
    {"packing", "#e58b72"},
    {"other", "#b9c4c9"},
    {"unknown", "", "line", 1},
    // lines and words
    {"curve", "", "mark", 1.5},
    {"label", "soft", "", 0, 11},
    {"byte", "#10181c", "", 0, 12, true},
    {"bare", "ink", "", 0, 12, true},
};

}  // namespace operculum
