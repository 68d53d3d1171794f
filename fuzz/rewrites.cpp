// Writes containers again: the first bytes of the input say what changes, the rest is the container. What
// comes out must open, and hold what it is to hold.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <stdexcept>

#include "base/error.h"
#include "container/open.h"
#include "container/rewrite.h"
#include "container/trim.h"
#include "fuzz/target.h"
#include "layout/described_container.h"
#include "layout/library.h"

namespace operculum::fuzz {
namespace {

constexpr std::uint64_t kMostBytes = 1 << 20;
constexpr std::string_view kNewText = "high water at 14:05\n";

Bytes new_content() {
  ByteView bytes = as_bytes(kNewText);
  return {bytes.begin(), bytes.end()};
}

/// All of an entry's bytes; nothing where they cannot be had.
std::optional<Bytes> content_of(Container& container, std::size_t index) {
  try {
    return read_all(*container.content(index)->stream(), kMostBytes);
  } catch (const Error&) {
    return std::nullopt;
  }
}

Changes changes_from(ByteView wishes, std::span<const Entry> entries) {
  Changes changes;
  NewEntry entry;
  entry.size = kNewText.size();
  entry.content = make_content(make_memory_source(new_content()));
  for (Byte wish : wishes) {
    if (entries.empty()) break;
    std::size_t index = wish % entries.size();
    entry.path = entries[index].path;
    switch (wish / 64) {
      case 0:
        if (entries[index].has_data()) changes.replaced[index] = entry;
        break;
      case 1:
        changes.removed.insert(index);
        break;
      case 2:
        changes.renamed[index] = entries[index].path + "-renamed";
        break;
      default:
        entry.path = "added-" + std::to_string(wish);
        changes.added.push_back(entry);
    }
  }
  for (std::size_t index : changes.removed) {
    changes.replaced.erase(index);
    changes.renamed.erase(index);
  }
  return changes;
}

/// Without filling everything is still there.
void trim(const Format& format, Container& old) {
  std::optional<Trimmed> trimmed;
  try {
    trimmed = old.trimmed(Look::whole);
  } catch (const Error&) {
    return;  // damaged further in
  }
  if (!trimmed) return;
  OpenContext context;
  ContainerPtr now = format.open({make_content(trimmed->result.source()), "sample"}, context);
  must(now->entries().size() + trimmed->gone.size() == old.entries().size(),
       "entries of a trimmed container");
  for (std::size_t i = 0; i < now->entries().size(); ++i) {
    auto before = content_of(old, i);
    must(!before || content_of(*now, i) == before, "a content in a trimmed container");
  }
}

void look(const Format& format, ByteView bytes) {
  constexpr std::size_t kWishes = 4;
  if (bytes.size() <= kWishes) return;
  SourcePtr before = make_memory_source(Bytes(bytes.begin() + kWishes, bytes.end()));
  OpenContext context;
  context.limits.max_entries = 1000;
  SourcePtr after;
  Changes changes;
  ContainerPtr old;
  try {
    Probe probe(before, "sample");
    if (format.recognise(probe) == Match::none) return;
    old = format.open({make_content(before), "sample"}, context);
    old->entries();
    if (old->access() != Access::random) return;
    Writing writing{{}, context.spool, [](const std::string&, const std::string&) {}};
    if (!old->findings().empty()) {
      // What is damaged may come out unreadable: then the comparison before it gets its name refuses it.
      old->rewrite(changes_from(bytes.first(kWishes), old->entries()), writing).kept_of(*before);
      return;
    }
    SourcePtr same = old->rewrite({}, writing).source();
    must(read_up_to(*same, 0, same->size()) == read_up_to(*before, 0, before->size()),
         "a rebuild without a change");
    trim(format, *old);
    changes = changes_from(bytes.first(kWishes), old->entries());
    after = old->rewrite(changes, writing).source();
    after = make_memory_source(read_up_to(*after, 0, after->size()));
  } catch (const Error&) {
    return;  // what cannot be written is said
  }
  // From here on an Error is a finding: the program's own file must open. It is compared before it gets its
  // name, so that a person would be told; here it must not come to that.
  OpenContext again;
  ContainerPtr now = format.open({make_content(after), "sample"}, again);
  for (const auto& [index, entry] : changes.replaced) {
    std::string path =
        changes.renamed.contains(index) ? changes.renamed.at(index) : old->entries()[index].path;
    bool found = false;
    for (std::size_t i = 0; i < now->entries().size(); ++i)
      found |= now->entries()[i].path == path && content_of(*now, i) == new_content();
    must(found, "a replaced entry");
  }
}

/// The families whose packs are one file. Their order is that of the inputs: the first byte says which.
constexpr std::string_view kFamilies[] = {"shoal",  "kelp", "gauge", "tern",   "reef",
                                          "ledger", "eel",  "drift", "cockle", "swell"};

std::shared_ptr<const layout::Plan> plan_of(std::size_t family) {
  static std::map<std::size_t, std::shared_ptr<const layout::Plan>> all;
  auto& plan = all[family];
  if (!plan)
    plan = layout::Library::read(fmt::format("{}/layouts/{}.layout", OPERCULUM_SOURCE, kFamilies[family]),
                                 layout::Trust::own)
               .compiled.plan;
  return plan;
}

/// A pack that a description of ours fits, whatever else is in it: one change is made as it was wished, or
/// refused, and nothing else is another one then.
void look_described(ByteView bytes) {
  constexpr std::size_t kWishes = 1;
  if (bytes.size() <= 1 + kWishes) return;
  auto plan = plan_of(bytes[0] % std::size(kFamilies));
  SourcePtr before = make_memory_source(Bytes(bytes.begin() + 1 + kWishes, bytes.end()));
  auto open = [&](const SourcePtr& source, OpenContext& context) {
    context.limits.max_entries = 200;
    return layout::open_described(plan, {make_content(source), "sample"}, source, context);
  };
  OpenContext context, again;
  SourcePtr after;
  Changes changes;
  ContainerPtr old;
  try {
    old = open(before, context);
    old->entries();
    if (!old->findings().empty()) return;
    changes = changes_from(bytes.subspan(1, kWishes), old->entries());
    Writing writing{{}, context.spool, [](const std::string&, const std::string&) {}};
    after = old->rewrite(changes, writing).source();
    after = make_memory_source(read_up_to(*after, 0, after->size()));
  } catch (const Error&) {
    return;
  }
  ContainerPtr now = open(after, again);
  must(now->entries().size() + changes.removed.size() == old->entries().size() + changes.added.size(),
       "as many entries as are wished");
}

}  // namespace

std::vector<Target> rewrite_targets() {
  std::vector<Target> all = {{"rewrite-described", look_described}};
  for (const Format& format : formats()) {
    constexpr std::string_view kIds[] = {"zip", "tar", "cpio", "ar",   "squashfs", "fat",  "iso9660",
                                         "ext", "cab", "cfb",  "gzip", "bzip2",    "zstd", "lz4"};
    if (std::find(std::begin(kIds), std::end(kIds), format.id) != std::end(kIds))
      all.push_back(
          {"rewrite-" + std::string(format.id), [&format](ByteView bytes) { look(format, bytes); }});
  }
  return all;
}

}  // namespace operculum::fuzz
