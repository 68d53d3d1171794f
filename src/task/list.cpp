#include "task/list.h"

namespace operculum {

void list(const Place& place, const ListRequest& request, OpenContext& context,
          const std::function<void(const Found&)>& sink, const FindingSink& findings) {
  const Layer& layer = place.layers.back();
  if (!request.deep) {
    bool everything = request.selection.everything();
    layer.container->each(request.detail, [&](const Entry& entry) {
      if (everything || request.selection.wants(entry.path)) {
        sink({entry, entry.path, *layer.format, *layer.container, false, 0, nullptr, nullptr});
      }
    });
    for (const Finding& finding : layer.container->findings()) findings("", finding);
    return;
  }
  WalkEvents events;
  events.found = [&](const Found& found) {
    if (request.selection.wants(found.path)) sink(found);
    return true;
  };
  events.leave = [&](const std::string& path, Container& container) {
    for (const Finding& finding : container.findings()) findings(path, finding);
  };
  events.unreadable = [&](const std::string& path, const Error& error) {
    findings(path, {Finding::Level::warning, std::string("cannot be entered: ") + error.what()});
  };
  walk(layer, place.layers.size() == 1 ? place.file_source : nullptr, context, {true}, events);
}

}  // namespace operculum
