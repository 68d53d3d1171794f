#pragma once

#include <map>
#include <string>
#include <vector>

#include "container/container.h"

namespace operculum {

/// Output names made of what is known of an entry: "{title}-{version}{ending}". In braces stand path, folder,
/// name (without its ending), ending, number (from 1), type, crc32, container, or a fact that identify shows
/// of the container. Slashes in values become "_", except in path and folder.
class NameTemplate {
 public:
  /// Throws Malformed when a brace is not closed.
  explicit NameTemplate(const std::string& text);

  /// The name for an entry. Throws Malformed when the template asks for what is not known of it.
  std::string name_for(const Entry& entry, const std::string& path, std::uint64_t number,
                       Container& container, const std::string& container_name) const;

 private:
  struct Part {
    bool placeholder;
    std::string text;
  };
  std::vector<Part> parts_;
};

}  // namespace operculum
