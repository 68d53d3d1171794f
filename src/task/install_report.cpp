#include "task/install_report.h"

#include <algorithm>
#include <map>
#include <set>

#include "base/path_parts.h"
#include "base/text.h"
#include "container/open.h"
#include "container/parts.h"
#include "task/script_effects.h"
#include "task/walk.h"

namespace operculum {
namespace {

constexpr std::uint64_t kDiskBlock = 4096;
constexpr std::size_t kMostLookedAt = 2000;  // entries of a container that is no installer
constexpr int kMostNested = 6;

std::string place_of(const std::string& path, bool system_paths) {
  std::size_t first = path.find('/');
  if (first == std::string::npos) return system_paths ? "/" : ".";
  std::size_t second = path.find('/', first + 1);
  if (!system_paths) return path.substr(0, first);
  return "/" + path.substr(0, second == std::string::npos ? first : second);
}

InstalledItem item_of(const Entry& entry) {
  InstalledItem item;
  item.path = entry.path;
  item.kind = entry.kind;
  item.size = entry.has_data() && entry.size_known() ? entry.size : 0;
  item.mode = entry.mode;
  item.link_target = entry.link_target();
  if (entry.extra && !entry.extra->owner.empty()) item.owner = entry.extra->owner + ":" + entry.extra->group;
  return item;
}

std::size_t parts(const std::string& path) {
  return static_cast<std::size_t>(std::count(path.begin(), path.end(), '/')) + 1;
}

/// What the package calls itself, in small letters.
std::string product_of(const Installation& plan) {
  for (const auto& [name, value] : plan.about) {
    if (name == "product") return to_lower(value);
  }
  return "";
}

/// Folders of a system are shared: only what bears the package's name, what lies in that, and folders beneath
/// /opt are its own.
bool is_own_folder(const std::string& path, const std::string& name) {
  constexpr std::size_t kFewestParts = 3;  // "usr/share/doc" itself is nobody's
  if (path.starts_with("opt/")) return true;
  if (name.empty() || parts(path) < kFewestParts) return false;
  std::vector<std::string_view> all = split(path, '/');
  return std::any_of(all.begin() + 2, all.end(), [&](std::string_view part) {
    std::string lower = to_lower(part);
    return lower == name || lower.starts_with(name + "-") || lower.starts_with(name + ".");
  });
}

/// What removing files does not take back.
std::vector<std::string> undo_of(const Installation& plan) {
  std::vector<std::string> undo;
  for (const InstallAction& action : plan.actions) {
    if (action.kind == InstallAction::Kind::service)
      undo.push_back("stop and disable the service " + action.name);
    if (action.kind == InstallAction::Kind::scheduled_task)
      undo.push_back("remove the scheduled task " + action.name);
  }
  for (const RegistryValue& value : plan.registry)
    undo.push_back("delete the registry value " + value.key + ": " +
                   (value.name.empty() ? "(default)" : value.name));
  std::sort(undo.begin(), undo.end());
  undo.erase(std::unique(undo.begin(), undo.end()), undo.end());
  return undo;
}

/// All that has to go for the package to be gone.
std::vector<std::string> removal_of(const PackageReport& report) {
  std::vector<std::string> paths;
  std::set<std::string> folders;
  std::string root = report.plan.system_paths ? "/" : "";
  for (const InstalledPlace& place : report.places) {
    for (const InstalledItem& item : place.items) {
      if (item.kind == EntryKind::folder) {
        folders.insert(item.path);
        continue;
      }
      paths.push_back(root + item.path);
      std::string_view folder = parent_of(item.path);
      while (!folder.empty() && folders.insert(std::string(folder)).second) folder = parent_of(folder);
    }
  }
  for (const Shortcut& shortcut : report.plan.shortcuts) paths.push_back(root + shortcut.path);
  std::vector<std::string> own;
  std::string name = product_of(report.plan);
  std::copy_if(folders.begin(), folders.end(), std::back_inserter(own), [&](const std::string& path) {
    return report.plan.system_paths ? is_own_folder(path, name) : parts(path) >= 2;
  });
  std::stable_sort(own.begin(), own.end(),
                   [&](const std::string& a, const std::string& b) { return parts(a) > parts(b); });
  for (const std::string& folder : own) paths.push_back(root + folder + "/");
  return paths;
}

PackageReport report_of(const std::string& target, const Format& format, Container& container,
                        Installation plan) {
  PackageReport report;
  report.target = target;
  report.format = format.name;
  report.plan = std::move(plan);
  std::set<std::string> configuration(report.plan.configuration.begin(), report.plan.configuration.end());
  std::map<std::string, InstalledPlace> places;
  for (const MemoryWrite& write : report.plan.writes) report.bytes += write.size;
  auto place_item = [&](const Entry& entry) {
    if (entry.path == ".") return;
    InstalledItem item = item_of(entry);
    item.configuration = configuration.contains(item.path);
    InstalledPlace& place = places[place_of(item.path, report.plan.system_paths)];
    if (item.kind == EntryKind::file) {
      ++place.files;
      place.bytes += item.size;
      report.on_disk += (item.size + kDiskBlock - 1) / kDiskBlock * kDiskBlock;
    }
    place.items.push_back(std::move(item));
  };
  if (report.plan.writes.empty()) container.each(Detail::all, place_item);
  for (auto& [name, place] : places) {
    if (std::all_of(place.items.begin(), place.items.end(),
                    [](const InstalledItem& item) { return item.kind == EntryKind::folder; }))
      continue;
    place.place = name;
    report.files += place.files;
    report.bytes += place.bytes;
    report.places.push_back(std::move(place));
  }
  report.removal = removal_of(report);
  report.undo = undo_of(report.plan);
  for (const InstallAction& action : report.plan.actions) {
    for (const std::string& effect : script_effects(action.text))
      report.effects.push_back(action.name + " " + effect);
  }
  report.findings = container.findings();
  return report;
}

class Search {
 public:
  explicit Search(OpenContext& context) : context_(context) {}

  void look(const std::string& target, const Format& format, const ContainerPtr& container, int depth) {
    if (auto plan = container->installation()) {
      found.push_back(report_of(target, format, *container, std::move(*plan)));
      return;
    }
    if (depth >= kMostNested || container->access() != Access::random) return;
    std::span<const Entry> entries = container->entries();
    for (std::size_t i = 0; i < std::min(entries.size(), kMostLookedAt); ++i) {
      if (!entries[i].has_data() || entries[i].size == 0) continue;
      try {
        Input input{container->content(i), std::string(base_name(entries[i].path)),
                    entry_sibling(container, entries[i].path, context_)};
        Opened inner = open_container(input, context_);
        if (inner.container) look(target + "/" + entries[i].path, *inner.format, inner.container, depth + 1);
      } catch (const LimitExceeded&) {
        throw;
      } catch (const std::exception&) {
        continue;  // what cannot be opened is no installer that could be told about
      }
    }
  }

  std::vector<PackageReport> found;

 private:
  OpenContext& context_;
};

}  // namespace

std::vector<PackageReport> report_installation(const std::string& target, OpenContext& context) {
  Place place = resolve(target, context, Step::into);
  if (place.layers.empty()) return {};
  Search search(context);
  // The locator may lead through several containers: the innermost that is an installer is meant.
  const Layer& layer = place.layers.back();
  search.look(target, *layer.format, layer.container, 0);
  return std::move(search.found);
}

}  // namespace operculum
