#include "base/hex_text.h"

#include <fmt/format.h>

namespace operculum {

std::string hex_text(ByteView bytes) {
  std::string out;
  for (Byte byte : bytes) out += fmt::format("{}{:02x}", out.empty() ? "" : " ", byte);
  return out;
}

}  // namespace operculum
