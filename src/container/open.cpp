#include "container/open.h"

namespace operculum {

Opened open_container(const Input& input, OpenContext& context) {
  Probe probe = make_probe(*input.content, input.name);
  const Format* format = recognise(probe, context);
  if (format == nullptr) return {};
  return {format, format->open(input, context)};
}

}  // namespace operculum
