#include "container/parts.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <optional>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"
#include "container/open.h"
#include "io/file_source.h"

namespace operculum {
namespace {

constexpr int kMaxParts = 999;

/// `name` in `folder` as it is, or else one that differs only in case: sets made where case does not count
/// are often renamed so. Empty when there is neither.
std::string find_part(const std::string& folder, std::string_view name) {
  if (name.empty() || name == "." || name == "..") return "";
  std::string exact = folder + std::string(name), wanted = to_lower(name);
  if (access(exact.c_str(), F_OK) == 0) return exact;
  std::error_code none;
  for (const auto& item : std::filesystem::directory_iterator(folder.empty() ? "." : folder, none)) {
    std::string own = item.path().filename().string();
    if (to_lower(own) == wanted) return folder + own;
  }
  return "";
}

bool is_regular(const std::string& path) {
  struct stat status {};
  return stat(path.c_str(), &status) == 0 && S_ISREG(status.st_mode);
}

/// A stranger's file may name a link that leads anywhere.
bool is_link(const std::string& path) {
  struct stat status {};
  return lstat(path.c_str(), &status) == 0 && S_ISLNK(status.st_mode);
}

}  // namespace

SourcePtr open_with_parts(const std::string& path, unsigned& count) {
  count = 1;
  SourcePtr first = open_file(path);
  if (!path.ends_with(".001")) return first;
  std::vector<SourcePtr> parts = {first};
  std::string stem = path.substr(0, path.size() - 3);
  for (int number = 2; number <= kMaxParts; ++number) {
    std::string next = fmt::format("{}{:03}", stem, number);
    if (access(next.c_str(), F_OK) != 0) break;
    parts.push_back(open_file(next));
  }
  count = static_cast<unsigned>(parts.size());
  return parts.size() == 1 ? first : make_joined(std::move(parts));
}

namespace {

/// More files than that in a folder are not looked at for parts of one.
constexpr std::size_t kMaxCandidates = 4096;

std::vector<Candidate> files_in(const std::string& folder) {
  std::vector<std::string> paths;
  std::error_code none;
  for (const auto& item : std::filesystem::directory_iterator(folder.empty() ? "." : folder, none)) {
    std::string name = item.path().filename().string(), full = folder + name;
    if (name.starts_with('.') || is_link(full) || !is_regular(full)) continue;
    paths.push_back(full);
    if (paths.size() == kMaxCandidates) break;
  }
  std::sort(paths.begin(), paths.end());
  std::vector<Candidate> out;
  out.reserve(paths.size());
  for (const std::string& path : paths) out.push_back({path, [path] { return open_file(path); }});
  return out;
}

/// Entries that are opened once, however often they are wanted.
class OpenedEntries {
 public:
  OpenedEntries(ContainerPtr container, OpenContext& context)
      : container_(std::move(container)), context_(context) {}

  std::span<const Entry> entries() { return container_->entries(); }
  SourcePtr open(std::size_t index) {
    SourcePtr& source = opened_[index];
    if (!source) source = random_access(*container_->content(index), context_.spool);
    return source;
  }

 private:
  ContainerPtr container_;
  OpenContext& context_;
  std::map<std::size_t, SourcePtr> opened_;
};

/// What lies beside an entry of a disk in another disk: of a wrapper the disk in it, of a partition table
/// every partition.
std::vector<Candidate> candidates_in(const Candidate& outer, bool wrapper, OpenContext& context) {
  std::vector<Candidate> out;
  try {
    SourcePtr source = outer.open();
    if (!source) return out;
    Opened opened = open_container({make_content(source), outer.name}, context);
    bool disk = opened.container && opened.format->family == "disk image" && opened.format->single_stream;
    bool table = opened.container && opened.format->family == "partition table";
    if (wrapper && !disk) return {{outer.name, [source] { return source; }}};  // a raw disk has none
    if (!disk && !table) return out;
    auto entries = std::make_shared<OpenedEntries>(opened.container, context);
    for (std::size_t i = 0; i < entries->entries().size(); ++i)
      out.push_back(
          {outer.name + "/" + entries->entries()[i].path, [entries, i] { return entries->open(i); }});
  } catch (const Error&) {  // what cannot be opened has nothing
  }
  return out;
}

}  // namespace

std::string path_beside(const std::string& path, const std::string& name) {
  std::string full, within(folder_part(path));
  for (std::string_view part : split(name, '/')) {
    if (part.starts_with('.')) return "";  // hidden files are no parts of anything
    full = find_part(within, part);
    if (full.empty() || is_link(full)) return "";
    within = full + "/";
  }
  return is_regular(full) ? full : "";
}

Beside file_sibling(const std::string& path) {
  Beside out;
  out.open = [path](const std::string& name) -> SourcePtr {
    std::string full = path_beside(path, name);
    return full.empty() ? nullptr : open_file(full);
  };
  out.candidates = [folder = std::string(folder_part(path))] { return files_in(folder); };
  return out;
}

std::optional<std::size_t> entry_beside(std::span<const Entry> entries, std::string_view path,
                                        std::string_view name) {
  std::string full = std::string(folder_part(path)).append(name), lower = to_lower(full);
  std::optional<std::size_t> alike;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (!entries[i].has_data() || entries[i].path.size() != full.size()) continue;
    if (entries[i].path == full) return i;
    if (!alike && to_lower(entries[i].path) == lower) alike = i;
  }
  return alike;
}

Beside entry_sibling(ContainerPtr container, const std::string& path, OpenContext& context, Beside outer) {
  auto opened = std::make_shared<OpenedEntries>(std::move(container), context);
  Beside out;
  out.open = [opened, path](const std::string& name) -> SourcePtr {
    auto found = entry_beside(opened->entries(), path, name);
    return found ? opened->open(*found) : nullptr;
  };
  out.candidates = [opened, folder = std::string(folder_part(path)), path, outer = std::move(outer),
                    &context] {
    std::vector<Candidate> all;
    std::span<const Entry> entries = opened->entries();
    for (std::size_t i = 0; i < entries.size() && all.size() < kMaxCandidates; ++i) {
      if (entries[i].has_data() && folder_part(entries[i].path) == folder)
        all.push_back({entries[i].path, [opened, i] { return opened->open(i); }});
    }
    bool wrapper = entries.size() == 1;
    for (const Candidate& disk : outer.all()) {
      std::vector<Candidate> more = candidates_in(disk, wrapper, context);
      std::move(more.begin(), more.end(), std::back_inserter(all));
    }
    return all;
  };
  return out;
}

}  // namespace operculum
