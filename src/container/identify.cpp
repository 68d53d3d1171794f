#include "container/identify.h"

#include <algorithm>

#include "base/text.h"

namespace operculum {

const Format* recognise(Probe& probe) {
  const Format* best = nullptr;
  Match strongest = Match::none;
  for (const Format& format : formats()) {
    Match match = format.recognise(probe);
    if (match == Match::weak && format_for_name(probe.name()) != &format) continue;
    if (match > strongest) {
      strongest = match;
      best = &format;
    }
    if (strongest == Match::front) break;
  }
  return best;
}

const Format* format_for_name(std::string_view name) {
  std::string lower = to_lower(name);
  for (const Format& format : formats()) {
    for (std::string_view suffix : format.suffixes) {
      if (lower.size() > suffix.size() && lower.ends_with(suffix)) return &format;
    }
  }
  return nullptr;
}

Front read_front(Stream& stream) {
  Front front;
  front.bytes.resize(Probe::kReach);
  front.bytes.resize(read_fully(stream, front.bytes));
  front.complete = front.bytes.size() < Probe::kReach;
  return front;
}

Probe make_probe(const Content& content, const std::string& name) {
  if (SourcePtr source = content.source()) return Probe(std::move(source), name);
  Front front = read_front(*content.stream());
  return Probe(std::move(front.bytes), front.complete, name);
}

}  // namespace operculum
