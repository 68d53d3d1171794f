#include "task/list.h"

namespace operculum {
namespace {

/// The wanted entries of one container, which is not entered any deeper.
void list_flat(const Layer& layer, const Selection& selection, Detail detail,
               const std::function<void(const Entry&)>& sink, const FindingSink& findings) {
  if (selection.everything()) {
    layer.container->each(detail, sink);
  } else {
    layer.container->each(detail, [&](const Entry& entry) {
      if (selection.wants(entry.path)) sink(entry);
    });
  }
  for (const Finding& finding : layer.container->findings()) findings("", finding);
}

}  // namespace

void list(const Place& place, const ListRequest& request, OpenContext& context,
          const std::function<void(const Found&)>& sink, const FindingSink& findings) {
  const Layer& layer = place.layers.back();
  if (!request.deep && !request.kinds && !request.contents) {
    auto take = [&](const Entry& entry) {
      sink({entry, entry.path, *layer.format, *layer.container, false, 0, nullptr, nullptr, 0});
    };
    return list_flat(layer, request.selection, Detail::all, take, findings);
  }
  WalkEvents events = telling(findings);
  events.found = [&](const Found& found) {
    if (request.selection.wants(found.path)) sink(found);
    return true;
  };
  walk(place, context, {.deep = request.deep, .programs = request.programs, .kinds = request.kinds}, events);
}

void list_paths(const Place& place, const ListRequest& request, OpenContext& context,
                const std::function<void(const std::string&)>& sink, const FindingSink& findings) {
  if (request.deep || request.kinds || request.contents) {
    list(
        place, request, context, [&](const Found& found) { sink(found.path); }, findings);
    return;
  }
  list_flat(
      place.layers.back(), request.selection, Detail::paths, [&](const Entry& entry) { sink(entry.path); },
      findings);
}

}  // namespace operculum
