#include "layout/described_format.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/hex_text.h"
#include "base/text.h"
#include "base/units.h"
#include "layout/described_container.h"
#include "layout/fresh/fresh_container.h"

namespace operculum::layout {
namespace {

/// Where constant bytes are to lie; nothing where what is looked at is too short.
std::optional<std::uint64_t> place_of(const MagicPart& part, Probe& probe) {
  if (!part.from_end) return part.offset;
  auto size = probe.size();
  return size && *size >= part.offset ? std::optional(*size - part.offset) : std::nullopt;
}

bool lie_there(const MagicPart& part, Probe& probe) {
  auto offset = place_of(part, probe);
  if (!offset) return false;
  std::size_t size = part.bytes.size();
  constexpr std::uint64_t kFront = 4096;  // bytes that are read of everything
  if (*offset > kFront || *offset + size > kFront) return as_text(probe.at(*offset, size)) == part.bytes;
  ByteView front = probe.head(static_cast<std::size_t>(*offset) + size);
  return front.size() == *offset + size && as_text(front.last(size)) == part.bytes;
}

/// The first of a description's constant bytes that are other ones here; null when all fit.
const MagicPart* misfit(const Plan& plan, Probe& probe) {
  auto wrong = std::find_if(plan.magic.begin(), plan.magic.end(),
                            [&](const MagicPart& part) { return !lie_there(part, probe); });
  return wrong == plan.magic.end() ? nullptr : &*wrong;
}

std::string difference(const MagicPart& part, Probe& probe) {
  auto offset = place_of(part, probe);
  if (!offset) return "it is too short";
  Bytes found = probe.at(*offset, part.bytes.size());
  return fmt::format("at offset {} expected {}, found {}", *offset, hex_text(as_bytes(part.bytes)),
                     found.empty() ? "nothing" : hex_text(found));
}

/// The cheap test: constant bytes at fixed places. The strict one: all that the description states up to its
/// entries.
Match recognise_described(const std::shared_ptr<const Plan>& plan, Chosen chosen, Probe& probe) {
  const MagicPart* wrong = misfit(*plan, probe);
  auto almost = [&](std::string_view why) {
    probe.add_almost(chosen == Chosen::by_user
                         ? fmt::format("the description {} does not fit: {}", escape(plan->id), why)
                         : fmt::format("it looks like {}, but {}", with_article(plan->title), why));
    return Match::none;
  };
  if (wrong != nullptr) return chosen == Chosen::by_user ? almost(difference(*wrong, probe)) : Match::none;
  std::size_t magic = 0;
  for (const MagicPart& part : plan->magic) magic += part.bytes.size();
  bool strong = magic >= kStrongMagic || chosen == Chosen::by_user;
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
  format.pack = [plan](const std::vector<NewEntry>& entries, const Writing& writing) {
    return pack_described(plan, entries, writing);
  };
  format.keeps = {.folders = false, .links = false, .hard_links = false, .modes = false, .owners = false};
  return format;
}

}  // namespace operculum::layout
