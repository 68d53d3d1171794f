#pragma once

#include <string>
#include <string_view>

namespace operculum {

/// Which names are allowed on disk.
enum class NameRules {
  here,      ///< what this machine's file systems allow without danger
  portable,  ///< also what other systems refuse: reserved device names, dots and blanks at the end, < > : " |
             ///< ? * \ .
};

/// A path from a container made safe to use beneath a folder.
struct SafePath {
  std::string path;    ///< relative, without "..", empty when nothing usable is left
  std::string change;  ///< what was changed and why, for a person; empty when nothing
};

/// Maps a stored path: leading slashes and drive letters go, "." and ".." parts go, control characters and
/// marks that reorder text become "_", a part of more than 255 bytes is shortened with a checksum of the
/// rest.
SafePath make_safe(std::string_view stored, NameRules rules);

/// True when a name would be refused or changed by other common systems.
bool is_portable(std::string_view path);

/// "crab.png" with number 2 is "crab~2.png".
std::string numbered(std::string_view path, unsigned number);

}  // namespace operculum
