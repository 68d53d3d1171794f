#include "task/folder_container.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <climits>
#include <cstring>
#include <mutex>

#include "base/text.h"
#include "task/folder_entries.h"

namespace operculum {
namespace {

constexpr std::size_t kDeepest = 256;  // folders inside each other

class DiskFolder final : public Container {
 public:
  explicit DiskFolder(std::string path) : path_(std::move(path)) {}

  std::span<const Entry> entries() override {
    std::call_once(listed_, [this] { add_beneath(path_, "", 0); });
    return entries_;
  }
  ContentPtr content(std::size_t index) override { return disk_content(path_ + "/" + entries()[index].path); }

 private:
  void add_beneath(const std::string& folder, const std::string& prefix, std::size_t depth) {
    if (depth > kDeepest) {
      add_finding(
          Finding::Level::fault,
          fmt::format("{} has more than {} folders inside each other: not read", escape(folder), kDeepest));
      return;
    }
    std::vector<std::string> names;
    try {
      names = names_in(folder);
    } catch (const IoError& error) {
      add_finding(Finding::Level::fault, error.what());
      return;
    }
    for (const std::string& name : names) {
      std::string file = folder, path = prefix;
      file.append("/").append(name);
      path += name;
      if (add(file, path) == EntryKind::folder) add_beneath(file, path.append("/"), depth + 1);
    }
  }

  EntryKind add(const std::string& file, const std::string& path) {
    struct stat status {};
    if (lstat(file.c_str(), &status) != 0) {
      add_finding(Finding::Level::fault, fmt::format("{}: {}", escape(file), std::strerror(errno)));
      return EntryKind::file;
    }
    Entry entry;
    entry.path = path;
    entry.kind = kind_of_mode(status.st_mode);
    entry.mode = status.st_mode & 07777;
    entry.modified = from_unix(status.st_mtim.tv_sec, static_cast<std::uint32_t>(status.st_mtim.tv_nsec));
    if (entry.has_data()) entry.size = entry.stored_size = static_cast<std::uint64_t>(status.st_size);
    if (entry.kind == EntryKind::symbolic_link) {
      char target[PATH_MAX];
      ssize_t length = readlink(file.c_str(), target, sizeof target);
      if (length > 0) entry.extras().link_target.assign(target, static_cast<std::size_t>(length));
    }
    entries_.push_back(std::move(entry));
    return entries_.back().kind;
  }

  std::string path_;
  std::once_flag listed_;
  std::vector<Entry> entries_;
};

}  // namespace

const Format& disk_folder_format() {
  static const Format kFormat{.id = "folder", .name = "folder", .family = "folder"};
  return kFormat;
}

ContainerPtr open_disk_folder(const std::string& path) {
  return std::make_shared<DiskFolder>(path);
}

}  // namespace operculum
