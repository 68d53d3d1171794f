#include "layout/entry_roles.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "layout/run/step.h"

namespace operculum::layout {
namespace {

Timestamp time_of(Frame& frame, const Node& node) {
  Value value = node.value(frame);
  if (!value.there()) return {};
  return {value.a, static_cast<std::uint32_t>(value.b & 0xffffffff), (value.b & Value::kFloating) != 0};
}

}  // namespace

std::optional<std::uint32_t> stated_crc32(const Node& node, Frame& frame) {
  auto sum = node.number_if(frame);
  return sum ? std::optional(static_cast<std::uint32_t>(*sum)) : std::nullopt;
}

template <typename Work>
void EntryRoles::optional_role(const NodePtr& node, std::string_view name, const Entry& entry, Work work) {
  if (node == nullptr) return;
  try {
    work(*node);
  } catch (const LimitExceeded&) {
    throw;
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    tell_(fmt::format("{}: its {}: {}", entry.path.empty() ? "an entry" : escape(entry.path), name,
                      error.what()));
  }
}

bool EntryRoles::selects(const EntryPlan& rule, Frame& frame) {
  if (rule.condition != nullptr && !rule.condition->truth(frame)) return false;
  check_element(rule, frame);
  return true;
}

/// A table's records are read field by field; their conditions are looked at here.
void EntryRoles::check_element(const EntryPlan& rule, Frame& frame) {
  if (rule.loops.empty()) return;
  const Value& element = frame.slots[rule.loops.back().slot];
  const StaticType type = rule.loops.back().list->type().element();
  if (element.kind == Value::Kind::placed && type.record->checks) run_.slots_of(element, *type.record);
}

/// A text; empty where it is not there.
std::string EntryRoles::text_if(const Node& node, Frame& frame) {
  Value text = node.value(frame);
  return text.there() ? run_.text(text) : "";
}

void EntryRoles::fill_path(const EntryPlan& rule, Frame& frame, Entry& entry) {
  optional_role(rule.path, "path", entry, [&](const Node& node) {
    node.text(frame, entry.path);
    if (!entry.path.empty()) clean_in_place(entry.path);
  });
}

void EntryRoles::fill_kind(const EntryPlan& rule, Frame& frame, Entry& entry) {
  if (rule.folder != nullptr && rule.folder->number_if(frame).value_or(0) != 0)
    entry.kind = EntryKind::folder;
  if (rule.link == nullptr) return;
  if (std::string target = text_if(*rule.link, frame); !target.empty()) {
    entry.kind = EntryKind::symbolic_link;
    entry.extras().link_target = std::move(target);
  }
}

void EntryRoles::fill_rest(const EntryPlan& rule, Frame& frame, Entry& entry) {
  fill_optional(rule, frame, entry);
  if (entry.kind == EntryKind::file) fill_data(rule, frame, entry);
}

void EntryRoles::fill_optional(const EntryPlan& rule, Frame& frame, Entry& entry) {
  optional_role(rule.time, "time", entry, [&](const Node& node) { entry.modified = time_of(frame, node); });
  optional_role(rule.created, "time of creation", entry,
                [&](const Node& node) { entry.extras().created = time_of(frame, node); });
  optional_role(rule.accessed, "time of access", entry,
                [&](const Node& node) { entry.extras().accessed = time_of(frame, node); });
  optional_role(rule.mode, "mode", entry, [&](const Node& node) {
    if (auto mode = node.number_if(frame)) entry.mode = static_cast<std::uint32_t>(*mode) & 07777;
  });
  optional_role(rule.comment, "comment", entry, [&](const Node& node) {
    if (std::string text = text_if(node, frame); !text.empty()) entry.extras().comment = std::move(text);
  });
  optional_role(rule.kind, "kind", entry, [&](const Node& node) {
    if (std::string text = text_if(node, frame); !text.empty()) entry.extras().type_tag = std::move(text);
  });
  optional_role(rule.encrypted, "encryption", entry, [&](const Node& node) {
    if (node.number_if(frame).value_or(0) != 0) entry.flags |= Entry::encrypted;
  });
}

void EntryRoles::fill_data(const EntryPlan& rule, Frame& frame, Entry& entry) {
  if (rule.crc32 != nullptr) {
    if (auto sum = stated_crc32(*rule.crc32, frame)) {
      entry.crc32 = *sum;
      entry.flags |= Entry::has_crc;
    }
  }
  for (const CheckPlan& check : rule.checks)
    if (check.expected->value(frame).there()) entry.flags |= Entry::has_sum;
  if (rule.size != nullptr) entry.size = rule.size->size_if(frame, "a size").value_or(Entry::kUnknownSize);
  if (rule.data == nullptr) {
    entry.size = entry.stored_size = 0;
    return;
  }
  outline_.placed = false;
  outline_.length.reset();
  outline_.steps.clear();
  rule.data->outline(frame, outline_);
  entry.method = method(outline_.steps);
  if (!outline_.length) return;
  entry.stored_size = *outline_.length;
  bool sizes_stay = std::all_of(outline_.steps.begin(), outline_.steps.end(),
                                [](const StepKind* step) { return step->keeps_size; });
  if (sizes_stay && rule.size == nullptr) entry.size = *outline_.length;
  if (!outline_.placed) return;
  if (outline_.region == 0) entry.stored_at = outline_.offset;
  std::uint64_t there = run_.region(outline_.region).size();
  if (outline_.offset > there || *outline_.length > there - outline_.offset) {
    entry.flags |= Entry::damaged;
    if (beyond_++ == 0) first_beyond_ = entry.path;
  }
}

/// The names of the steps joined; kept once.
std::string_view EntryRoles::method(const std::vector<const StepKind*>& steps) {
  if (steps.empty()) return "stored";
  if (steps.size() == 1) return steps[0]->name;
  std::string name;
  for (const StepKind* step : steps) name += fmt::format("{}{}", name.empty() ? "" : "+", step->name);
  for (const std::string& known : methods_) {
    if (known == name) return known;
  }
  return methods_.emplace_back(std::move(name));
}

std::vector<std::string> EntryRoles::other_paths(const EntryPlan& rule, const Entry& entry, Frame& frame) {
  std::vector<std::string> others;
  optional_role(rule.also, "other paths", entry, [&](const Node& node) {
    Value paths = node.value(frame);
    for (std::uint64_t i = 0, count = paths.there() ? run_.count(paths) : 0; i < count; ++i) {
      run_.step(rule.where);
      others.push_back(run_.text(run_.element(paths, i)));
      clean_in_place(others.back());
    }
  });
  return others;
}

}  // namespace operculum::layout
