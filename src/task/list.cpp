#include "task/list.h"

namespace operculum {

void list(const Place& place, const ListRequest& request, OpenContext& context,
          const std::function<void(const Found&)>& sink, const FindingSink& findings) {
  const Layer& layer = place.layers.back();
  if (!request.deep && !request.kinds) {
    bool everything = request.selection.everything();
    layer.container->each(request.detail, [&](const Entry& entry) {
      if (everything || request.selection.wants(entry.path)) {
        sink({entry, entry.path, *layer.format, *layer.container, false, 0, nullptr, nullptr, 0});
      }
    });
    for (const Finding& finding : layer.container->findings()) findings("", finding);
    return;
  }
  WalkEvents events = telling(findings);
  events.found = [&](const Found& found) {
    if (request.selection.wants(found.path)) sink(found);
    return true;
  };
  walk(layer, place.layers.size() == 1 ? place.file_source : nullptr, context,
       {.deep = request.deep, .kinds = request.kinds}, events);
}

}  // namespace operculum
