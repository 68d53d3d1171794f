#include "container/open.h"

#include "io/fronted_stream.h"
#include "io/spool.h"

namespace operculum {
namespace {

Opened recognise_source(const SourcePtr& source, const ContentPtr& content, const std::string& name,
                        const OpenContext& context) {
  Probe probe(source, name);
  const Format* format = recognise(probe, context);
  return {format, nullptr, content, probe.almost()};
}

}  // namespace

Opened recognise_content(const ContentPtr& content, const std::string& name, OpenContext& context) {
  SourcePtr source = content->source();
  if (source && !source->costly()) return recognise_source(source, content, name, context);
  LookedAt looked = look_at_front(content, Probe::kReach);
  Probe front(std::move(looked.front), looked.complete, name);
  const Format* format = recognise(front, context);
  if (format != nullptr && format->family == "described") {  // which is sure only where it has all bytes
    source = random_access(*looked.content, context.spool);
    return recognise_source(source, make_content(source), name, context);
  }
  if (format == nullptr && source)  // something that shows at its end alone
    return recognise_source(source, looked.content, name, context);
  return {format, nullptr, looked.content, front.almost()};
}

Opened open_container(const Input& input, OpenContext& context) {
  Opened out = recognise_content(input.content, input.name, context);
  if (out.format != nullptr)
    out.container = out.format->open({out.content, input.name, input.sibling}, context);
  return out;
}

}  // namespace operculum
