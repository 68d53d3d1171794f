#include "container/parts.h"

#include <fmt/format.h>
#include <unistd.h>

#include "base/error.h"
#include "io/file_source.h"

namespace operculum {
namespace {

constexpr int kMaxParts = 999;

std::string folder_of(const std::string& path) {
  std::size_t slash = path.rfind('/');
  return slash == std::string::npos ? "" : path.substr(0, slash + 1);
}

}  // namespace

SourcePtr open_with_parts(const std::string& path) {
  SourcePtr first = open_file(path);
  if (!path.ends_with(".001")) return first;
  std::vector<SourcePtr> parts = {first};
  std::string stem = path.substr(0, path.size() - 3);
  for (int number = 2; number <= kMaxParts; ++number) {
    std::string next = fmt::format("{}{:03}", stem, number);
    if (access(next.c_str(), F_OK) != 0) break;
    parts.push_back(open_file(next));
  }
  return parts.size() == 1 ? first : make_joined(std::move(parts));
}

std::function<SourcePtr(const std::string&)> file_sibling(const std::string& path) {
  return [folder = folder_of(path)](const std::string& name) -> SourcePtr {
    std::string full = folder + name;
    return name.find('/') == std::string::npos && access(full.c_str(), F_OK) == 0 ? open_file(full) : nullptr;
  };
}

std::function<SourcePtr(const std::string&)> entry_sibling(ContainerPtr container, const std::string& path,
                                                           OpenContext& context) {
  return [container = std::move(container), folder = folder_of(path),
          &context](const std::string& name) -> SourcePtr {
    std::span<const Entry> entries = container->entries();
    for (std::size_t i = 0; i < entries.size(); ++i) {
      if (entries[i].has_data() && entries[i].path == folder + name) {
        return random_access(*container->content(i), context.spool);
      }
    }
    return nullptr;
  };
}

}  // namespace operculum
