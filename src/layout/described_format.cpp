#include "layout/described_format.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "layout/described_container.h"
#include "layout/plan/value_text.h"

namespace operculum::layout {
namespace {

/// How many constant bytes fit, or which of them do not.
struct MagicFit {
  std::size_t bytes = 0;
  std::string differs;  ///< a sentence; empty when all fit
};

MagicFit magic_of(const Plan& plan, Probe& probe) {
  MagicFit fit;
  for (const MagicPart& part : plan.magic) {
    std::uint64_t offset = part.offset;
    if (part.from_end) {
      auto size = probe.size();
      if (!size || *size < part.offset) return {0, "it is too short"};
      offset = *size - part.offset;
    }
    Bytes found = probe.at(offset, part.bytes.size());
    if (as_text(found) != part.bytes)
      return {0, fmt::format("at offset {} expected {}, found {}", offset, hex_text(as_bytes(part.bytes)),
                             found.empty() ? "nothing" : hex_text(found))};
    fit.bytes += part.bytes.size();
  }
  return fit;
}

/// The cheap test: constant bytes at fixed places. The strict one: all that the description states up to its
/// entries.
Match recognise_described(const std::shared_ptr<const Plan>& plan, Chosen chosen, Probe& probe) {
  MagicFit magic = magic_of(*plan, probe);
  auto almost = [&](std::string_view why) {
    probe.add_almost(chosen == Chosen::by_user
                         ? fmt::format("the description {} does not fit: {}", escape(plan->id), why)
                         : fmt::format("it looks like {}, but {}", with_article(plan->title), why));
    return Match::none;
  };
  if (!magic.differs.empty()) return chosen == Chosen::by_user ? almost(magic.differs) : Match::none;
  bool strong = magic.bytes >= kStrongMagic || chosen == Chosen::by_user;
  std::string lower = to_lower(probe.name());
  bool named = std::any_of(plan->suffixes.begin(), plan->suffixes.end(),
                           [&](const std::string& suffix) { return lower.ends_with(suffix); });
  if (!strong && !named) return Match::none;
  Match match = strong ? Match::front : Match::weak;
  SourcePtr source = probe.source();
  if (!source) return strong ? match : Match::none;  // only a front is there: opening will tell
  OpenContext context;
  try {
    open_described(plan, {make_content(source), probe.name()}, source, context);
  } catch (const Malformed& error) {  // cut downloads, too: nothing else will claim them
    return strong ? almost(error.what()) : Match::none;
  } catch (const Error&) {
    return match;  // a key or a file beside it is wanted: opening says so
  }
  return match;
}

}  // namespace

Format described_format(const std::shared_ptr<const Plan>& plan, Chosen chosen) {
  Format format;
  format.own_order = true;
  format.id = plan->id;
  format.name = plan->title;
  format.family = "described";
  format.specification = plan->description.name;
  format.reads = plan->about;
  format.writes = "contents and rows of entries, where the numbers that tell of them can be found";
  for (const std::string& suffix : plan->suffixes) format.suffixes.push_back(suffix);
  format.recognise = [plan, chosen](Probe& probe) { return recognise_described(plan, chosen, probe); };
  format.open = [plan](const Input& input, OpenContext& context) -> ContainerPtr {
    return open_described(plan, input, random_access(*input.content, context.spool), context);
  };
  return format;
}

}  // namespace operculum::layout
