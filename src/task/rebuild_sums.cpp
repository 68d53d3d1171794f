#include "task/rebuild_sums.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/text.h"
#include "container/open.h"
#include "io/digest.h"

namespace operculum {
namespace {

constexpr std::string_view kSums = "md5sums";
constexpr std::uint64_t kMostSums = 64 << 20;  // bytes

bool is_package(const RebuildLayer& layer) {
  return layer.format->id == "deb";
}

std::size_t index_of(Container& container, const std::function<bool(const std::string&)>& wanted,
                     std::string_view what) {
  std::span<const Entry> entries = container.entries();
  auto found =
      std::find_if(entries.begin(), entries.end(), [&](const Entry& one) { return wanted(one.path); });
  if (found == entries.end())
    throw Unsupported(fmt::format("bringing md5sums up to date: there is no {}", what));
  return static_cast<std::size_t>(found - entries.begin());
}

std::string_view without_dot(std::string_view path) {
  return path.starts_with("./") ? path.substr(2) : path;
}

}  // namespace

bool PackageSums::concern(const std::vector<RebuildLayer>& layers) {
  return std::any_of(layers.begin(), layers.end(), is_package);
}

void PackageSums::operator()(std::size_t layer, Changes& changes) const {
  const RebuildLayer& package = layers_[layer];
  if (!is_package(package)) return;
  std::size_t member = index_of(
      *package.container, [](const std::string& path) { return path.starts_with("control.tar"); },
      "control archive");
  std::vector<RebuildLayer> layers = control_layers(package, member);
  Container& control = *layers.back().container;
  std::size_t sums = index_of(
      control, [](const std::string& path) { return without_dot(path) == kSums; },
      "md5sums in the control archive");
  Bytes before = read_all(*control.content(sums)->stream(), kMostSums);
  std::string after = brought_up_to_date(as_text(before));
  NewEntry entry;
  entry.path = control.entries()[sums].path;
  entry.size = after.size();
  entry.content = make_content(make_memory_source(Bytes(after.begin(), after.end())));
  Changes of_control;
  of_control.replaced.emplace(sums, std::move(entry));
  auto plan = plan_changes(layers.back(), std::move(of_control), writing_);
  std::vector<PlannedLayer> plans = plan_layers(layers, std::move(plan), writing_);
  NewEntry archive;
  archive.path = package.container->entries()[member].path;
  archive.size = plans.front().source->size();
  archive.content = make_content(plans.front().source);
  changes.replaced.emplace(member, std::move(archive));
}

/// The control archive, and what it is packed in.
std::vector<RebuildLayer> PackageSums::control_layers(const RebuildLayer& package, std::size_t member) const {
  std::vector<RebuildLayer> out;
  std::string name = package.container->entries()[member].path;
  ContentPtr content = package.container->content(member);
  for (;;) {
    Opened opened = open_container({content, name}, context_);
    if (!opened.container)
      throw Unsupported("bringing md5sums up to date: the control archive is not understood");
    out.push_back(prepare_layer(
        {opened.format, opened.container, name, Entry::kUnknownSize, opened.content, nullptr}, context_));
    if (!opened.format->single_stream) return out;
    name = out.back().container->entries()[0].path;
    content = out.back().container->content(0);
  }
}

std::string PackageSums::brought_up_to_date(std::string_view lines) const {
  std::map<std::string, std::string> digests;  // of what has another one, by path
  std::map<std::string, std::string> renamed;
  std::set<std::string> removed;
  std::span<const Entry> entries = layers_.back().container->entries();
  auto path_of = [&](std::size_t index) { return std::string(without_dot(entries[index].path)); };
  auto digest = [](const NewEntry& entry) { return stream_digest(*entry.content->stream(), "md5"); };
  for (std::size_t index : changes_.removed) removed.insert(path_of(index));
  for (const auto& [index, path] : changes_.renamed) renamed[path_of(index)] = without_dot(path);
  for (const auto& [index, entry] : changes_.replaced) {
    if (entry.kind == EntryKind::file) digests[path_of(index)] = digest(entry);
  }
  std::string out;
  for (std::string_view line : split(lines, '\n')) {
    std::size_t blank = line.find(' ');
    if (blank == std::string_view::npos) continue;
    std::string path(trim(line.substr(blank)));
    if (removed.contains(path)) continue;
    std::string sum(line.substr(0, blank));
    if (auto found = digests.find(path); found != digests.end()) sum = found->second;
    if (auto found = renamed.find(path); found != renamed.end()) path = found->second;
    out += fmt::format("{}  {}\n", sum, path);
  }
  for (const NewEntry& entry : changes_.added) {
    if (entry.kind == EntryKind::file) out += fmt::format("{}  {}\n", digest(entry), without_dot(entry.path));
  }
  return out;
}

}  // namespace operculum
