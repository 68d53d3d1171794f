#include "report/install_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/records.h"

namespace operculum {
namespace {

Shown item_line(const InstalledItem& item) {
  std::string mode = item.mode == Entry::kNoMode ? "    " : fmt::format("{:04o}", item.mode);
  std::string path = escape(item.path) + (item.kind == EntryKind::folder ? "/" : "");
  if (!item.link_target.empty()) path += " -> " + escape(item.link_target);
  if (item.configuration) path += "  (configuration)";
  return shown("    {} {:<12} {:>12}  {}\n", mode, escape(item.owner),
               item.kind == EntryKind::file ? grouped(item.size) : "-", path);
}

Shown action_lines(const InstallAction& action, bool scripts) {
  Shown text = shown("  {:<14} {}", name_of(action.kind), action.name);
  if (!action.when.empty()) text += shown(", {}", action.when);
  if (!action.command.empty() && action.command != action.name)
    text += shown("\n  {:<14} {}", "", action.command);
  text += "\n";
  if (!scripts || action.text.empty()) return text;
  for (std::string_view line : split(trim(action.text), '\n')) text += shown("  {:<14} | {}\n", "", line);
  return text;
}

/// Of an update: what it would write where. It puts no files anywhere and runs nothing.
Shown writes_text(const PackageReport& report) {
  Shown out = "would write\n";
  for (const MemoryWrite& write : report.plan.writes)
    out += shown("  {:>12}  {}  ({})\n", grouped(write.size), write.to, escape(write.from));
  return out;
}

}  // namespace

std::string removal_line(const std::string& path) {
  return escape(path) + (path.ends_with('/') ? " (if empty)" : "");
}

Shown install_text(const PackageReport& report, bool scripts) {
  Shown out = shown("{}\n", escape(report.target));
  auto fact = [&](std::string_view name, const std::string& value) {
    out += shown("  {:<14} {}\n", name, value);
  };
  fact("is", std::string(report.format));
  for (const auto& [name, value] : report.plan.about) fact(name, value);
  bool updates = !report.plan.writes.empty();
  if (!updates)
    fact("takes", fmt::format("{} in {}; {} on disk", human_size(report.bytes),
                              counted(report.files, "file", "files"), human_size(report.on_disk)));
  for (const Finding& finding : report.findings) fact(name_of(finding.level), finding.text);
  if (updates) return out + writes_text(report);
  out += "would put\n";
  for (const InstalledPlace& place : report.places) {
    out += shown("  {}  ({}, {})\n", escape(place.place), counted(place.files, "file", "files"),
                 human_size(place.bytes));
    for (const InstalledItem& item : place.items) out += item_line(item);
  }
  auto section = [&](std::string_view title, bool empty) {
    out += shown("{}\n", title);
    if (empty) out += "  nothing\n";
  };
  section("would run", report.plan.actions.empty());
  for (const InstallAction& action : report.plan.actions) out += action_lines(action, scripts);
  if (!report.effects.empty()) section("scripts say that they would make", false);
  for (const std::string& effect : report.effects) out += shown("  {}\n", effect);
  if (!report.plan.registry.empty()) section("would write to the registry", false);
  for (const RegistryValue& value : report.plan.registry)
    out +=
        shown("  {}\n    {} = {}\n", value.key, value.name.empty() ? "(default)" : value.name, value.value);
  if (!report.plan.shortcuts.empty()) section("would make shortcuts", false);
  for (const Shortcut& shortcut : report.plan.shortcuts)
    out += shown("  {} -> {}\n", escape(shortcut.path), shortcut.target);
  if (!report.plan.needs.empty()) section("needs", false);
  for (const std::string& need : report.plan.needs) out += shown("  {}\n", need);
  if (!report.plan.notes.empty()) section("beside that", false);
  for (const std::string& note : report.plan.notes) out += shown("  {}\n", note);
  section("to remove by hand", report.removal.empty());
  for (const std::string& path : report.removal) out += shown("  {}\n", removal_line(path));
  if (!report.undo.empty()) section("to undo beside that", false);
  for (const std::string& undo : report.undo) out += shown("  {}\n", undo);
  return out;
}

}  // namespace operculum
