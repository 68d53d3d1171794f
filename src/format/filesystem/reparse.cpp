#include "format/filesystem/reparse.h"

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"

namespace operculum {

std::optional<std::string> reparse_target(std::uint32_t tag, ByteView data) {
  LittleFields f(data, "reparse point");
  if (tag == kReparseUnixLink && data.size() > 4) return std::string(f.text(4, data.size() - 4));
  if (tag != kReparseMountPoint && tag != kReparseSymbolicLink) return std::nullopt;
  std::size_t paths = tag == kReparseSymbolicLink ? 12 : 8;
  auto name = [&](std::size_t offset, std::size_t length) {
    return to_utf8(f.text(paths + f.u16(offset), f.u16(length)), "UTF-16LE").value_or("_");
  };
  std::string target = name(4, 6);  // the name meant for people
  if (target.empty()) target = name(0, 2);
  constexpr std::string_view kDevicePrefix = "\\??\\";
  if (target.starts_with(kDevicePrefix)) target.erase(0, kDevicePrefix.size());
  std::replace(target.begin(), target.end(), '\\', '/');
  return target;
}

}  // namespace operculum
