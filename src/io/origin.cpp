#include "io/origin.h"

#include <sys/xattr.h>

#include <array>

namespace operculum {

std::optional<std::string> origin_of(const std::string& path) {
  std::array<char, 4096> value{};
  ssize_t size = getxattr(path.c_str(), kOriginAttribute, value.data(), value.size());
  if (size <= 0) return std::nullopt;
  return std::string(value.data(), static_cast<std::size_t>(size));
}

}  // namespace operculum
