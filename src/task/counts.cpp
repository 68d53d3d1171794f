#include "task/counts.h"

#include <fmt/format.h>

#include "base/units.h"

namespace operculum {

void Counts::add(const Entry& entry) {
  switch (entry.kind) {
    case EntryKind::file:
      ++files;
      bytes += entry.size_known() ? entry.size : 0;
      break;
    case EntryKind::folder:
      ++folders;
      break;
    case EntryKind::symbolic_link:
    case EntryKind::hard_link:
      ++links;
      break;
    default:
      ++devices;
      break;
  }
}

std::string counts_text(const Counts& counts) {
  std::string text = counted(counts.files, "file", "files");
  auto add = [&](std::uint64_t count, std::string_view one, std::string_view many) {
    if (count > 0) text += fmt::format(", {}", counted(count, one, many));
  };
  add(counts.folders, "folder", "folders");
  add(counts.links, "link", "links");
  add(counts.devices, "device", "devices");
  return text;
}

}  // namespace operculum
