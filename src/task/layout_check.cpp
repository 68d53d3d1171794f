#include "task/layout_check.h"

#include <fmt/format.h>

#include <array>

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

std::array<std::uint64_t, 5> bytes_by_kind(const LayoutTrial& trial) {
  std::array<std::uint64_t, 5> bytes{};
  for (const layout::CoverRange& range : trial.ranges)
    bytes[static_cast<std::size_t>(range.kind)] += range.end - range.begin;
  return bytes;
}

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
  try {
    auto container =
        layout::open_described(plan, {place.content, place.name, sibling}, source, context, &tracer);
    container->observe_all(tracer);
    trial.entries = container->entries().size();
    trial.facts = container->facts();
    trial.findings = container->findings();
    for (Finding& finding : path_conflicts(container->entries()))
      trial.findings.push_back(std::move(finding));
    trial.container = std::move(container);
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    trial.failure = error.what();
  }
  trial.fields = tracer.fields();
  trial.fields_left_out = tracer.left_out();
  trial.ranges = tracer.ranges(*source);
  if (wishes.profile) trial.profile = study::profile_of(*source);
  return trial;
}

}  // namespace operculum
