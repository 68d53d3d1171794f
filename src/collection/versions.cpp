#include "collection/versions.h"

#include <algorithm>
#include <map>

namespace operculum {
namespace {

std::int64_t moment(const Timestamp& time) {
  return time.known() ? to_unix_seconds(time) : Timestamp::kNone;
}

}  // namespace

std::vector<FileVersions> versions_of(std::vector<FoundFile> files) {
  std::stable_sort(files.begin(), files.end(), [](const FoundFile& a, const FoundFile& b) {
    return moment(a.modified) > moment(b.modified);
  });
  std::map<std::string, FileVersions> names;
  for (const FoundFile& file : files) {
    std::string name(base_name(file.path.empty() ? file.target : file.path));
    FileVersions& all = names[name];
    all.name = name;
    auto known = std::find_if(all.versions.begin(), all.versions.end(),
                              [&](const FileVersion& version) { return version.sha256 == file.sha256; });
    if (known == all.versions.end())
      known = all.versions.insert(known, FileVersion{file.sha256, file.size, file.modified, {}});
    known->copies.push_back(file.locator);
  }
  std::vector<FileVersions> out;
  out.reserve(names.size());
  for (auto& [name, all] : names) out.push_back(std::move(all));
  return out;
}

}  // namespace operculum
