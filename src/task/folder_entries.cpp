#include "task/folder_entries.h"

#include <dirent.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <climits>
#include <cstdlib>
#include <memory>

#include "base/error.h"
#include "base/text.h"
#include "io/file_source.h"
#include "io/kernel.h"

namespace operculum {
namespace {

class DiskContent final : public Content {
 public:
  explicit DiskContent(std::string path) : path_(std::move(path)) {}
  StreamPtr stream() const override { return make_source_stream(open_file(path_)); }
  SourcePtr source() const override { return open_file(path_); }

 private:
  std::string path_;
};

void add_beneath(const std::string& folder, const std::string& prefix, std::size_t depth,
                 std::vector<NewEntry>& out) {
  if (depth > kDeepestFolder) throw LimitExceeded("the folder has more than 256 folders inside each other");
  for (const std::string& name : names_in(folder)) {
    std::string file = folder, path = prefix;
    file.append("/").append(name);
    path += name;
    out.push_back(entry_from_disk(file, path));
    if (out.back().kind == EntryKind::folder) add_beneath(file, path.append("/"), depth + 1, out);
  }
}

}  // namespace

ContentPtr disk_content(const std::string& file) {
  return std::make_shared<DiskContent>(file);
}

std::vector<std::string> names_in(const std::string& folder) {
  std::unique_ptr<DIR, int (*)(DIR*)> open(kernel::opendir(folder.c_str()), closedir);
  if (!open) throw IoError(escape(folder), errno);
  std::vector<std::string> names;
  while (const dirent* one = readdir(open.get())) {
    std::string name = one->d_name;
    if (name != "." && name != "..") names.push_back(std::move(name));
  }
  std::sort(names.begin(), names.end());
  return names;
}

std::string read_link(const std::string& file) {
  char target[PATH_MAX];
  ssize_t length = readlink(file.c_str(), target, sizeof target);
  if (length < 0) throw IoError(escape(file), errno);
  return {target, static_cast<std::size_t>(length)};
}

std::optional<std::int64_t> source_date() {
  const char* text = std::getenv("SOURCE_DATE_EPOCH");
  auto seconds = text == nullptr ? std::nullopt : parse_number(text);
  if (!seconds || *seconds > INT64_MAX / 2) return std::nullopt;
  return static_cast<std::int64_t>(*seconds);
}

NewEntry entry_from_disk(const std::string& file, const std::string& path) {
  struct stat status {};
  if (lstat(file.c_str(), &status) != 0) throw IoError(escape(file), errno);
  NewEntry entry;
  entry.path = path;
  entry.kind = kind_of_mode(status.st_mode);
  entry.mode = status.st_mode & 07777;
  entry.modified = from_unix(status.st_mtim.tv_sec, static_cast<std::uint32_t>(status.st_mtim.tv_nsec));
  if (auto latest = source_date(); latest && entry.modified.seconds > *latest)
    entry.modified = from_unix(*latest);
  switch (entry.kind) {
    case EntryKind::file:
      entry.size = static_cast<std::uint64_t>(status.st_size);
      entry.content = disk_content(file);
      break;
    case EntryKind::symbolic_link:
      entry.link_target = read_link(file);
      break;
    case EntryKind::folder:
      break;
    default:
      throw Unsupported("putting a device, pipe or socket into a container: " + escape(file));
  }
  return entry;
}

std::vector<NewEntry> entries_from_folder(const std::string& folder, const std::string& prefix) {
  std::vector<NewEntry> out;
  add_beneath(folder, prefix, 0, out);
  return out;
}

}  // namespace operculum
