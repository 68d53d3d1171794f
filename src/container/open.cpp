#include "container/open.h"

#include "io/fronted_stream.h"

namespace operculum {
namespace {

Opened opened(const Format* format, Input input, OpenContext& context) {
  ContentPtr content = input.content;
  if (format == nullptr) return {nullptr, nullptr, content};
  return {format, format->open(input, context), content};
}

}  // namespace

Opened open_container(const Input& input, OpenContext& context) {
  SourcePtr source = input.content->source();
  if (source && !source->costly()) {
    Probe probe(source, input.name);
    return opened(recognise(probe, context), input, context);
  }
  LookedAt looked = look_at_front(input.content, Probe::kReach);
  Probe front(std::move(looked.front), looked.complete, input.name);
  const Format* format = recognise(front, context);
  if (format == nullptr && source) {  // something that shows at its end alone
    Probe probe(source, input.name);
    format = recognise(probe, context);
  }
  return opened(format, {looked.content, input.name, input.sibling}, context);
}

}  // namespace operculum
