#include "base/cursor.h"

#include <fmt/format.h>

#include "base/error.h"

namespace operculum {

void Cursor::fail(std::string_view expected, std::string_view found) const {
  throw Malformed(fmt::format("{} at offset {}: expected {}, found {}", what_, offset(), expected, found));
}

void Cursor::fail_short(std::uint64_t count) const {
  throw CutShort(fmt::format("{} at offset {}: expected {} more bytes, found {}; the file may be cut short",
                             what_, offset(), count, left()));
}

}  // namespace operculum
