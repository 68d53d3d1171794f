#include "container/parts.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <map>
#include <optional>

#include "base/error.h"
#include "base/text.h"
#include "io/file_source.h"

namespace operculum {
namespace {

constexpr int kMaxParts = 999;

std::string folder_of(const std::string& path) {
  std::size_t slash = path.rfind('/');
  return slash == std::string::npos ? "" : path.substr(0, slash + 1);
}

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

std::function<SourcePtr(const std::string&)> file_sibling(const std::string& path) {
  return [folder = folder_of(path)](const std::string& name) -> SourcePtr {
    std::string full, within = folder;
    for (std::string_view part : split(name, '/')) {
      if (part.starts_with('.')) return nullptr;  // hidden files are no parts of anything
      full = find_part(within, part);
      if (full.empty() || is_link(full)) return nullptr;
      within = full + "/";
    }
    return is_regular(full) ? open_file(full) : nullptr;
  };
}

std::function<SourcePtr(const std::string&)> entry_sibling(ContainerPtr container, const std::string& path,
                                                           OpenContext& context) {
  auto opened = std::make_shared<std::map<std::size_t, SourcePtr>>();  // each is decoded once, however often
                                                                       // it is named
  return [container = std::move(container), folder = folder_of(path), opened,
          &context](const std::string& name) -> SourcePtr {
    std::span<const Entry> entries = container->entries();
    std::string full = folder + name, lower = to_lower(full);
    std::optional<std::size_t> found;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      if (!entries[i].has_data() || entries[i].path.size() != full.size()) continue;
      if (entries[i].path == full) {
        found = i;
        break;
      }
      if (!found && to_lower(entries[i].path) == lower) found = i;
    }
    if (!found) return nullptr;
    SourcePtr& source = (*opened)[*found];
    if (!source) source = random_access(*container->content(*found), context.spool);
    return source;
  };
}

}  // namespace operculum
