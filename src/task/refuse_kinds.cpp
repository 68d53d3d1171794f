#include "task/refuse_kinds.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "container/identify.h"
#include "task/kinds.h"
#include "task/walk.h"

namespace operculum {
namespace {

constexpr std::uint64_t kNamed = 5;  // files that a message names

}  // namespace

bool is_kind_of(std::string_view kind, const std::vector<std::string>& kinds) {
  return std::find(kinds.begin(), kinds.end(), kind) != kinds.end();
}

void refuse_kinds(const Place& place, const UnpackRequest& request, OpenContext& context,
                  Progress& progress) {
  std::uint64_t count = 0;
  std::string named;
  auto look_at = [&](const std::string& path, std::string_view kind) {
    if (!is_kind_of(kind, request.refuse_kinds) || ++count > kNamed) return;
    named += fmt::format("{}{} ({})", named.empty() ? "" : ", ", escape(path), kind);
  };
  if (place.is_container()) {
    WalkEvents events;
    events.found = [&](const Found& found) {
      if (found.entry.has_data() && request.selection.wants(found.path)) look_at(found.path, found.kind);
      return !progress.stop;
    };
    walk(place, context, {.deep = request.deep, .kinds = true}, events);
  } else if (place.content) {
    Probe probe = make_probe(*place.content, place.name);
    look_at(place.name, KindReader(context).kind(probe, place.name));
  }
  if (count == 0) return;
  throw GuardTripped(fmt::format("nothing was unpacked, for {} of a refused kind: {}{}",
                                 counted(count, "file is", "files are"), named,
                                 count > kNamed ? ", ..." : ""));
}

}  // namespace operculum
