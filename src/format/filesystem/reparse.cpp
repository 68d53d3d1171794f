#include "format/filesystem/reparse.h"

#include <algorithm>

#include "base/structure_fields.h"
#include "base/text.h"

namespace operculum {

namespace {

/// Where two names lie in what follows ([MS-FSCC] 2.1.2.4, 2.1.2.5): the one that leads, the one for people.
struct Names {
  std::uint16_t SubstituteNameOffset = 0, SubstituteNameLength = 0, PrintNameOffset = 0, PrintNameLength = 0;
  static constexpr auto layout = little_endian(field("SubstituteNameOffset", &Names::SubstituteNameOffset),
                                               field("SubstituteNameLength", &Names::SubstituteNameLength),
                                               field("PrintNameOffset", &Names::PrintNameOffset),
                                               field("PrintNameLength", &Names::PrintNameLength));
};
constexpr std::size_t kFlagsSize = 4;    // of a symbolic link, in front of the names
constexpr std::size_t kVersionSize = 4;  // of a link of Unix, in front of its target (2.1.2.7)

}  // namespace

std::optional<std::string> reparse_target(std::uint32_t tag, ByteView data) {
  LittleFields f(data, "reparse point");
  if (tag == reparse_unix_link && data.size() > kVersionSize)
    return std::string(f.text(kVersionSize, data.size() - kVersionSize));
  if (tag != reparse_mount_point && tag != reparse_symbolic_link) return std::nullopt;
  auto names = structure_at<Names>(f, 0);
  std::size_t paths = size_on_disk<Names> + (tag == reparse_symbolic_link ? kFlagsSize : 0);
  auto name = [&](std::size_t offset, std::size_t length) {
    return to_utf8(f.text(paths + offset, length), "UTF-16LE").value_or("_");
  };
  std::string target = name(names.PrintNameOffset, names.PrintNameLength);
  if (target.empty()) target = name(names.SubstituteNameOffset, names.SubstituteNameLength);
  constexpr std::string_view kDevicePrefix = "\\??\\";
  if (target.starts_with(kDevicePrefix)) target.erase(0, kDevicePrefix.size());
  std::replace(target.begin(), target.end(), '\\', '/');
  return target;
}

}  // namespace operculum
