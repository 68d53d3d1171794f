#include "container/identify.h"

#include <algorithm>

#include "base/text.h"

namespace operculum {

bool name_fits(const Format& format, std::string_view name) {
  std::string lower = to_lower(name);
  return std::any_of(format.suffixes.begin(), format.suffixes.end(), [&](std::string_view suffix) {
    return lower.size() > suffix.size() && lower.ends_with(suffix);
  });
}

namespace {

struct Recognised {
  const Format* format = nullptr;
  Match match = Match::none;
};

Recognised strongest_of(Probe& probe, std::span<const Format> candidates) {
  Recognised best;
  for (const Format& format : candidates) {
    Match match = format.recognise(probe);
    if (match == Match::weak && !name_fits(format, probe.name())) continue;
    if (match > best.match) best = {&format, match};
    if (best.match == Match::front) break;
  }
  return best;
}

std::span<const Format> described(const OpenContext& context) {
  return context.described ? context.described() : std::span<const Format>();
}

}  // namespace

const Format* recognise(Probe& probe) {
  return strongest_of(probe, formats()).format;
}

const Format* recognise(Probe& probe, const OpenContext& context) {
  if (const Format* named = strongest_of(probe, context.preferred).format) return named;
  Recognised own = strongest_of(probe, formats());
  if (own.format == nullptr) own = strongest_of(probe, described(context));
  if (own.match == Match::front) return own.format;
  const Format* searched = strongest_of(probe, context.searched).format;
  return searched != nullptr ? searched : own.format;
}

const Format* recognise_described(Probe& probe, const OpenContext& context) {
  if (const Format* named = strongest_of(probe, context.preferred).format) return named;
  return strongest_of(probe, described(context)).format;
}

const Format* format_for_name(std::string_view name, const OpenContext* context) {
  auto among = [&](std::span<const Format> candidates) {
    auto found = std::find_if(candidates.begin(), candidates.end(),
                              [&](const Format& one) { return name_fits(one, name); });
    return found == candidates.end() ? nullptr : &*found;
  };
  if (context != nullptr) {
    if (const Format* named = among(context->preferred)) return named;
  }
  if (const Format* own = among(formats())) return own;
  return context != nullptr ? among(described(*context)) : nullptr;
}

Front read_front(Stream& stream) {
  Front front;
  front.bytes.resize(Probe::kReach);
  front.bytes.resize(read_fully(stream, front.bytes));
  front.complete = front.bytes.size() < Probe::kReach;
  return front;
}

Probe make_probe(const Content& content, const std::string& name) {
  if (SourcePtr source = content.source(); source && !source->costly()) return Probe(std::move(source), name);
  Front front = read_front(*content.stream());
  return Probe(std::move(front.bytes), front.complete, name);
}

}  // namespace operculum
