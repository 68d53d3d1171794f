#pragma once

#include <pugixml.hpp>
#include <string_view>

namespace operculum {

/// The value that follows a key in a dictionary of a property list; an empty node when there is no such key.
inline pugi::xml_node value_of(const pugi::xml_node& dictionary, std::string_view key) {
  for (pugi::xml_node child : dictionary.children("key")) {
    if (key == child.text().get()) return child.next_sibling();
  }
  return {};
}

}  // namespace operculum
