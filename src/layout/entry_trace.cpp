#include "layout/entry_trace.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "layout/plan/value_text.h"
#include "layout/run/entered.h"

namespace operculum::layout {
namespace {

/// Reads a loop's element once more, field by field.
void show_element(Run& run, const EntryPlan::Loop& loop_plan, const Value& list, const Value& number) {
  const StaticType type = loop_plan.list->type().element();
  Value element = run.element(list, static_cast<std::uint64_t>(number.a));
  if (!element.there()) return;
  if (!type.is(StaticType::Base::record)) return run.observer->computed("element", value_text(run, element));
  const RecordPlan& record = *type.record;
  Entered entered(run, fmt::format("{}[{}]", record.name, number.a));
  std::vector<Value> slots(record.slots);
  std::uint64_t base = 0;
  if (element.kind == Value::Kind::instance) {
    const std::vector<Value>& read = run.store().instances[element.object].slots;
    std::copy_n(read.begin(), record.parameters, slots.begin());
  } else if (element.kind == Value::Kind::item) {
    const List& items = run.store().lists[element.object];
    std::copy(items.arguments.begin(), items.arguments.end(), slots.begin());
    base = items.offset;
  }
  Run::Where place = run.where(element);
  Reader reader{place.region, base, place.offset, run.region(place.region).size(), place.offset};
  Frame frame{run, slots.data(), &reader};
  RecordRead::run_actions(record, frame, reader);
}

/// "53 bytes at 0x864, zlib", as far as that is known before anything is decoded.
std::string outline_text(const Node& node, Frame& frame) {
  Run& run = frame.run;
  Outline outline;
  node.outline(frame, outline);
  std::string text = outline.length ? fmt::format("{} bytes", *outline.length) : "bytes";
  if (outline.placed) {
    text += fmt::format(" at 0x{:x}", outline.offset);
    if (const std::string& name = run.region(outline.region).name(); !name.empty())
      text += fmt::format(" in {}", escape(name));
  }
  for (const StepKind* step : outline.steps) text += fmt::format(", {}", step->name);
  return text;
}

void show_role(const RoleKind& role, const Node& node, Frame& frame) {
  Run& run = frame.run;
  std::string text;
  try {
    Value value = node.value(frame);
    text = role.member == &EntryPlan::data ? outline_text(node, frame) : value_text(run, value);
    if (role.member == &EntryPlan::data && value.there()) run.mark_made(value, Cover::data);
  } catch (const LimitExceeded&) {
    throw;
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    text = fmt::format("cannot be had: {}", error.what());
  }
  run.observer->computed(std::string(role.name), text);
}

}  // namespace

void show_entry(Run& run, const EntryPlan& rule, std::vector<Value>& slots) {
  Frame frame{run, slots.data()};
  for (const EntryPlan::Loop& one : rule.loops)
    show_element(run, one, slots[one.slot + 1], slots[one.slot + 2]);
  for (const RoleKind& role : role_kinds()) {
    if (const NodePtr& node = rule.*role.member; node != nullptr) show_role(role, *node, frame);
  }
}

void show_lists(Run& run) {
  const Plan& plan = run.plan();
  constexpr std::uint64_t kShown = 8;
  for (std::size_t i = 0; i < plan.globals.size(); ++i) {
    const Value& value = run.globals[i];
    if (value.kind != Value::Kind::list) continue;
    const List list = run.store().lists[value.object];
    if (list.shape != List::Shape::strided) continue;
    for (std::uint64_t k = 0; k < std::min(kShown, list.count); ++k) {
      Entered entered(run, fmt::format("{}[{}]", plan.globals[i], k));
      std::uint64_t offset = list.offset + k * list.stride;
      Reader reader{list.region, 0, offset, offset + list.stride, offset};
      Frame frame{run, nullptr, &reader};
      Value element = list.element->read(frame, reader);
      if (list.element->type.base != StaticType::Base::record)
        run.observer->field("", run.region(list.region), offset, list.stride,
                            value_text(run, element, *list.element));
    }
  }
}

}  // namespace operculum::layout
