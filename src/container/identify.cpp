#include "container/identify.h"

#include <algorithm>
#include <unordered_map>

#include "base/text.h"

namespace operculum {

namespace {

bool fits(const Format& format, std::string_view lower) {
  return std::any_of(format.suffixes.begin(), format.suffixes.end(), [&](std::string_view suffix) {
    return lower.size() > suffix.size() && lower.ends_with(suffix);
  });
}

}  // namespace

bool name_fits(const Format& format, std::string_view name) {
  return fits(format, to_lower(name));
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

std::vector<Claim> claims_on(Probe& probe, const OpenContext& context) {
  std::vector<Claim> out;
  for (std::span<const Format> candidates :
       {std::span<const Format>(context.preferred), std::span<const Format>(formats()), described(context)}) {
    for (const Format& format : candidates) {
      if (Match match = format.recognise(probe); match != Match::none) out.push_back({&format, match});
    }
  }
  std::stable_sort(out.begin(), out.end(), [](const Claim& a, const Claim& b) { return a.match > b.match; });
  return out;
}

std::string_view reason_of(const Claim& claim, std::string_view name) {
  switch (claim.match) {
    case Match::front:
      return "its structure is there from the first byte on";
    case Match::inside:
      return "its structure is there, but something else may lie around it";
    case Match::weak:
      return name_fits(*claim.format, name) ? "a few bytes fit, and so does the name"
                                            : "a few bytes fit, but the name does not: not taken";
    case Match::none:
      break;
  }
  return "";
}

const Format* recognise_described(Probe& probe, const OpenContext& context) {
  if (const Format* named = strongest_of(probe, context.preferred).format) return named;
  return strongest_of(probe, described(context)).format;
}

namespace {

/// The program's own formats by their endings; the first of several that share one.
const std::unordered_map<std::string_view, std::size_t>& own_endings() {
  static const auto kEndings = [] {
    std::unordered_map<std::string_view, std::size_t> all;
    std::size_t number = 0;
    for (const Format& format : formats()) {
      for (const auto& suffix : format.suffixes) all.try_emplace(suffix, number);
      ++number;
    }
    return all;
  }();
  return kEndings;
}

/// Asked for every name of a listing: each ending of the name is looked up, not each format's compared.
const Format* own_format(std::string_view lower) {
  std::size_t best = formats().size();
  for (std::size_t dot = lower.rfind('.'); dot != std::string_view::npos && dot > 0;
       dot = lower.rfind('.', dot - 1)) {
    if (lower.find('/', dot) != std::string_view::npos) break;
    auto found = own_endings().find(lower.substr(dot));
    if (found != own_endings().end()) best = std::min(best, found->second);
  }
  return best < formats().size() ? &formats()[best] : nullptr;
}

}  // namespace

const Format* format_for_name(std::string_view name, const OpenContext* context) {
  std::string lower = to_lower(name);
  auto among = [&](std::span<const Format> candidates) {
    auto found = std::find_if(candidates.begin(), candidates.end(),
                              [&](const Format& one) { return fits(one, lower); });
    return found == candidates.end() ? nullptr : &*found;
  };
  if (context != nullptr) {
    if (const Format* named = among(context->preferred)) return named;
  }
  if (const Format* own = own_format(lower)) return own;
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
