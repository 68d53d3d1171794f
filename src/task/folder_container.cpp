#include "task/folder_container.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <cerrno>
#include <mutex>

#include "base/error.h"
#include "base/text.h"
#include "task/folder_entries.h"

namespace operculum {
namespace {

/// All but the path. Throws IoError.
Entry entry_of(const std::string& file) {
  struct stat status {};
  if (lstat(file.c_str(), &status) != 0) throw IoError(escape(file), errno);
  Entry entry;
  entry.kind = kind_of_mode(status.st_mode);
  entry.mode = status.st_mode & 07777;
  entry.modified = from_unix(status.st_mtim.tv_sec, static_cast<std::uint32_t>(status.st_mtim.tv_nsec));
  if (entry.has_data()) entry.size = entry.stored_size = static_cast<std::uint64_t>(status.st_size);
  if (entry.kind == EntryKind::symbolic_link) entry.extras().link_target = read_link(file);
  return entry;
}

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
    if (depth > kDeepestFolder) {
      add_finding(Finding::Level::fault,
                  fmt::format("{} has more than {} folders inside each other: not read", escape(folder),
                              kDeepestFolder));
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
    Entry entry;
    try {
      entry = entry_of(file);
    } catch (const IoError& error) {
      add_finding(Finding::Level::fault, error.what());
      return EntryKind::file;
    }
    entry.path = path;
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
