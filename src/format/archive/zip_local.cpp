#include "format/archive/zip_local.h"

#include "base/error.h"

namespace operculum::zip {
namespace {

constexpr std::size_t kUsualLength = 512;  // bytes that nearly all local headers fit into
constexpr std::size_t kLongestLocal = kLocalSize + 2 * 65535;

}  // namespace

Local read_local(const Source& source, std::uint64_t offset) {
  Local local;
  for (std::uint64_t length : {std::uint64_t{kUsualLength}, std::uint64_t{kLongestLocal}}) {
    local.raw = read_up_to(source, offset, length);
    Cursor cursor(local.raw, "zip local header", offset);
    try {
      local.header = LocalHeader::read(cursor);
      break;
    } catch (const CutShort&) {
      if (local.raw.size() < length || length == kLongestLocal) throw;
    }
  }
  LocalHeader widened = local.header;
  local.extra = read_extra(widened);
  local.data = offset + local.header.length;
  return local;
}

}  // namespace operculum::zip
