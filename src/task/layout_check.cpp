#include "task/layout_check.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"
#include "base/units.h"
#include "container/locator.h"
#include "container/parts.h"
#include "layout/described_container.h"
#include "task/path_conflicts.h"

namespace operculum {

std::vector<RoleBack> roles_back(const layout::Plan& plan) {
  std::vector<RoleBack> all;
  for (const layout::EntryPlan& rule : plan.entries) {
    for (const layout::RoleKind& kind : layout::role_kinds()) {
      const layout::NodePtr& node = rule.*kind.member;
      if (node == nullptr) continue;
      layout::WriteBack back;
      node->write_back(back);
      RoleBack role{fmt::format("line {}", plan.description.place_of(rule.where.at).line),
                    std::string(kind.name), fmt::format("{}", fmt::join(back.fields, ", ")), back.obstacle};
      all.push_back(std::move(role));
    }
  }
  return all;
}

std::array<std::uint64_t, 5> bytes_by_kind(std::span<const layout::CoverRange> ranges) {
  std::array<std::uint64_t, 5> bytes{};
  for (const layout::CoverRange& range : ranges)
    bytes[static_cast<std::size_t>(range.kind)] += range.end - range.begin;
  return bytes;
}

std::vector<std::string> recognition_of(const layout::Plan& plan) {
  std::size_t bytes = 0;
  for (const layout::MagicPart& part : plan.magic) bytes += part.bytes.size();
  std::string known =
      fmt::format("files are recognised by {}", counted(bytes, "constant byte", "constant bytes"));
  std::string endings = fmt::format("{}", fmt::join(plan.suffixes, " "));
  if (bytes < layout::kStrongMagic)
    known += endings.empty() ? ", which is too little, and no suffix is stated: only with --layout"
                             : fmt::format(" and their names ({})", endings);
  std::vector<std::string> out = {known};
  if (plan.looks_at_end)
    out.emplace_back(
        "what is read at the end of the file is needed: a file that is cut short cannot be opened");
  return out;
}

namespace {

constexpr std::size_t kCompared = 8;                              // entries
constexpr std::uint64_t kMostCompared = std::uint64_t{64} << 20;  // bytes of each

/// Reads the first entries that have a checksum to their ends.
void compare_first(Container& container, LayoutTrial& trial, std::vector<Finding>& findings) {
  std::size_t looked = 0;
  std::span<const Entry> entries = container.entries();
  for (std::size_t i = 0; i < entries.size() && looked < kCompared; ++i) {
    const Entry& entry = entries[i];
    bool summed = entry.is(Entry::has_crc) || entry.is(Entry::has_sum);
    if (entry.kind != EntryKind::file || !summed || entry.stored_size > kMostCompared) continue;
    ++looked;
    try {
      container.content(i)->stream()->skip(kMostCompared + 1);  // its end is where sums are compared
      ++trial.compared;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      Finding finding{Finding::Level::fault,
                      printable(fmt::format("{}: {}", escape(entry.path), error.what()))};
      auto same = [&](const Finding& one) { return one.text == finding.text; };
      if (std::none_of(findings.begin(), findings.end(), same)) findings.push_back(std::move(finding));
    }
  }
}

/// The entry that is meant by its path or its number. Throws Malformed.
std::size_t entry_meant(std::span<const Entry> entries, const std::string& wanted) {
  for (std::size_t i = 0; i < entries.size(); ++i)
    if (entries[i].path == wanted) return i;
  auto number = parse_number(wanted);
  if (number && *number < entries.size()) return static_cast<std::size_t>(*number);
  throw Malformed(
      fmt::format("there is no entry \"{}\"; give a path as list prints it, or a number from 0 to {}",
                  escape(wanted), entries.empty() ? 0 : entries.size() - 1));
}

}  // namespace

LayoutTrial try_layout(const std::shared_ptr<const layout::Plan>& plan, const std::string& target,
                       const TrialWishes& wishes, OpenContext& context) {
  Place place = resolve(target, context, Step::bytes);
  LayoutTrial trial;
  trial.target = target;
  SourcePtr source = random_access(*place.content, context.spool);
  trial.file = source;
  trial.size = source->size();
  Beside sibling = file_sibling(place.file);
  if (place.entry) sibling = entry_sibling(place.layers.back().container, place.inside, context);
  layout::Tracer tracer(wishes.trace);
  layout::Observer* observer = wishes.entry.empty() ? &tracer : nullptr;
  std::vector<Finding> findings;
  try {
    auto container =
        layout::open_described(plan, {place.content, place.name, sibling}, source, context, observer);
    if (wishes.entry.empty()) {
      container->observe_all(tracer);
    } else {
      container->observe_entry(entry_meant(container->entries(), wishes.entry), tracer);
    }
    trial.entries = container->entries().size();
    trial.facts = container->facts();
    findings = container->findings();
    for (Finding& finding : path_conflicts(container->entries())) findings.push_back(std::move(finding));
    if (wishes.entry.empty()) compare_first(*container, trial, findings);
    trial.container = std::move(container);
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    trial.failure = error.what();
  }
  trial.findings = fold(findings);
  trial.fields = tracer.fields();
  trial.fields_left_out = tracer.left_out();
  trial.ranges = tracer.ranges(*source);
  for (const auto& [name, file] : tracer.files())
    trial.others.push_back({name, file->size(), tracer.ranges_of(name, *file)});
  if (wishes.profile) trial.profile = study::profile_of(*source);
  return trial;
}

}  // namespace operculum
