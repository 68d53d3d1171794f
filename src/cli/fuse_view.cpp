#define FUSE_USE_VERSION 35
#include "cli/fuse_view.h"

#include <fmt/format.h>
#include <fuse.h>
#include <fuse_lowlevel.h>
#include <mntent.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <list>
#include <memory>
#include <mutex>

#include "base/text.h"
#include "sandbox/child.h"

namespace operculum::cli {
namespace {

constexpr std::uint64_t kBlock = 512;  // of st_blocks

ViewTree& tree() {
  return **static_cast<ViewTree**>(fuse_get_context()->private_data);
}

/// Runs what the kernel asked for; an Error becomes an error number.
template <typename Work>
int answer(Work work) {
  try {
    return work();
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    switch (error.kind()) {
      case ErrorKind::needs_key:
        return -EACCES;
      case ErrorKind::unsupported:
        return -ENOTSUP;
      case ErrorKind::limit_exceeded:
        return -EFBIG;
      default:
        return -EIO;
    }
  }
}

/// The files that were read last, by path. The kernel is told that nothing need be opened, which saves two of
/// the three questions that it has for a small file; so a read finds its file here.
class RecentFiles {
 public:
  SourcePtr get(ViewTree& tree, const std::string& path) {
    {
      std::lock_guard lock(mutex_);
      auto found =
          std::find_if(files_.begin(), files_.end(), [&](const File& file) { return file.path == path; });
      if (found != files_.end()) {
        files_.splice(files_.begin(), files_, found);
        return found->source;
      }
    }
    SourcePtr source = tree.open(path);
    std::lock_guard lock(mutex_);
    files_.push_front({path, source});
    if (files_.size() > kKept) files_.pop_back();
    return source;
  }

 private:
  static constexpr std::size_t kKept = 16;  // what is spooled of them is held as long
  struct File {
    std::string path;
    SourcePtr source;
  };
  std::mutex mutex_;  // guards the rest
  std::list<File> files_;
};

SourcePtr file_of(const char* path) {
  static RecentFiles files;
  return files.get(tree(), path);
}

mode_t type_of(const ViewTree::Known& known) {
  if (known.folder) return S_IFDIR;
  switch (known.entry->kind) {
    case EntryKind::symbolic_link:
      return S_IFLNK;
    case EntryKind::character_device:
      return S_IFCHR;
    case EntryKind::block_device:
      return S_IFBLK;
    case EntryKind::fifo:
      return S_IFIFO;
    case EntryKind::socket:
      return S_IFSOCK;
    default:
      return S_IFREG;
  }
}

/// Everything but the size of a file whose container does not say it.
struct stat attributes_of(const ViewTree::Known& known) {
  struct stat out {};
  out.st_mode = type_of(known);
  bool folder = known.folder;
  std::uint32_t readable = folder ? 0555 : 0444;
  out.st_nlink = folder ? 2 : 1;
  out.st_uid = fuse_get_context()->uid;
  out.st_gid = fuse_get_context()->gid;
  if (known.entry) {
    const Entry& entry = *known.entry;
    bool program = entry.mode != Entry::kNoMode && (entry.mode & 0111) != 0;
    if (program && !folder) readable |= 0111;
    if (entry.modified.known()) out.st_mtim.tv_sec = to_unix_seconds(entry.modified);
    out.st_ctim = out.st_atim = out.st_mtim;
    if (!folder && entry.kind == EntryKind::symbolic_link)
      out.st_size = static_cast<off_t>(entry.link_target().size());
    if (!folder && entry.kind == EntryKind::file && entry.size_known())
      out.st_size = static_cast<off_t>(entry.size);
  }
  out.st_mode |= readable;  // what is shown may always be read, and never be written
  auto taken = static_cast<std::uint64_t>(out.st_size);
  bool sparse =
      known.entry && known.entry->is(Entry::sparse) && known.entry->stored_size != Entry::kUnknownSize;
  if (sparse) taken = std::min(taken, known.entry->stored_size);  // so copiers look for holes
  out.st_blocks = static_cast<blkcnt_t>((taken + kBlock - 1) / kBlock);
  return out;
}

/// The size of a file is to be found out by decoding it.
bool lacks_size(const ViewTree::Known& known) {
  return !known.folder && known.entry && known.entry->kind == EntryKind::file && !known.entry->size_known();
}

int get_attributes(const char* path, struct stat* out, fuse_file_info*) {
  return answer([&] {
    auto known = tree().find(path);
    if (!known) return -ENOENT;
    *out = attributes_of(*known);
    if (lacks_size(*known)) out->st_size = static_cast<off_t>(file_of(path)->size());
    return 0;
  });
}

/// With the attributes of everything in it: the kernel then need not ask for each file.
int read_folder(const char* path, void* buffer, fuse_fill_dir_t fill, off_t, fuse_file_info*,
                fuse_readdir_flags flags) {
  return answer([&] {
    auto known = tree().find(path);
    if (!known) return -ENOENT;
    if (!known->folder) return -ENOTDIR;
    constexpr auto kPlain = static_cast<fuse_fill_dir_flags>(0);
    for (const char* own : {".", ".."}) fill(buffer, own, nullptr, 0, kPlain);
    for (const ViewTree::Named& one : tree().list(path)) {
      struct stat attributes = attributes_of(one.known);
      bool plus = (flags & FUSE_READDIR_PLUS) != 0 && !lacks_size(one.known);
      fill(buffer, one.name.c_str(), &attributes, 0, plus ? FUSE_FILL_DIR_PLUS : kPlain);
    }
    return 0;
  });
}

int read_link(const char* path, char* buffer, std::size_t size) {
  return answer([&] {
    auto known = tree().find(path);
    if (!known || !known->entry || size == 0) return -ENOENT;
    std::string_view target = known->entry->link_target();
    std::size_t count = std::min(target.size(), size - 1);
    std::copy_n(target.begin(), count, buffer);
    buffer[count] = '\0';
    return 0;
  });
}

/// See RecentFiles. The view is mounted read-only, so nobody asks to write.
int open_entry(const char*, fuse_file_info*) {
  return -ENOSYS;
}

int read_entry(const char* path, char* buffer, std::size_t size, off_t offset, fuse_file_info*) {
  return answer([&] {
    return static_cast<int>(
        file_of(path)->read_at(static_cast<std::uint64_t>(offset), {reinterpret_cast<Byte*>(buffer), size}));
  });
}

/// Where the next data or the next hole is; each file ends in a hole, says lseek(2).
off_t seek_entry(const char* path, off_t offset, int whence, fuse_file_info*) {
  off_t found = -ENXIO;
  int error = answer([&] {
    SourcePtr source = file_of(path);
    auto at = static_cast<std::uint64_t>(offset);
    if (offset < 0 || at >= source->size()) return -ENXIO;
    while (at < source->size()) {
      std::uint64_t hole = source->hole_at(at);
      if ((hole > 0) == (whence == SEEK_HOLE)) break;
      at = std::min(source->size(), at + (hole > 0 ? hole : kBlock));
    }
    if (whence == SEEK_DATA && at >= source->size()) return -ENXIO;
    found = static_cast<off_t>(at);
    return 0;
  });
  return error != 0 ? error : found;
}

int get_attribute(const char* path, const char* name, char* buffer, std::size_t size) {
  return answer([&] {
    auto known = tree().find(path);
    if (!known || !known->entry || !known->entry->extra) return -ENODATA;
    for (const auto& [own, value] : known->entry->extra->attributes) {
      if (own != name) continue;
      if (size == 0) return static_cast<int>(value.size());
      if (value.size() > size) return -ERANGE;
      std::copy(value.begin(), value.end(), buffer);
      return static_cast<int>(value.size());
    }
    return -ENODATA;
  });
}

int list_attributes(const char* path, char* buffer, std::size_t size) {
  return answer([&] {
    auto known = tree().find(path);
    std::string names;
    if (known && known->entry && known->entry->extra) {
      for (const auto& [own, value] : known->entry->extra->attributes) names += own + '\0';
    }
    if (size == 0) return static_cast<int>(names.size());
    if (names.size() > size) return -ERANGE;
    std::copy(names.begin(), names.end(), buffer);
    return static_cast<int>(names.size());
  });
}

/// Nothing in a view ever changes: what the kernel was told once it may keep.
void* begin(fuse_conn_info*, fuse_config* config) {
  constexpr double kDay = 24 * 60 * 60;  // seconds
  config->entry_timeout = config->attr_timeout = config->negative_timeout = kDay;
  config->kernel_cache = 1;
  return fuse_get_context()->private_data;
}

fuse_operations operations() {
  fuse_operations all{};
  all.init = begin;
  all.getattr = get_attributes;
  all.readdir = read_folder;
  all.readlink = read_link;
  all.open = open_entry;
  all.read = read_entry;
  all.lseek = seek_entry;
  all.getxattr = get_attribute;
  all.listxattr = list_attributes;
  return all;
}

}  // namespace

FuseView::FuseView(const std::string& folder, const std::string& name, std::function<void()> take_away)
    : take_away_(std::move(take_away)) {
  std::string own_name = "fsname=" + name, kind = "ro,subtype=operculum";
  std::string clean;
  for (char c : own_name) clean += c == ',' || c == '\\' ? '_' : c;  // commas separate options
  const char* words[] = {"operculum", "-o", kind.c_str(), "-o", clean.c_str()};
  fuse_args args = FUSE_ARGS_INIT(5, const_cast<char**>(words));
  static const fuse_operations kOperations = operations();
  fuse_ = fuse_new(&args, &kOperations, sizeof kOperations, &view_);
  fuse_opt_free_args(&args);
  if (fuse_ == nullptr || fuse_mount(fuse_, folder.c_str()) != 0) {
    if (fuse_ != nullptr) fuse_destroy(fuse_);
    throw IoError(fmt::format("cannot mount on {}", escape(folder)), EIO);
  }
}

FuseView::~FuseView() {
  take_away_();
  fuse_unmount(fuse_);  // finds it done
  fuse_destroy(fuse_);
}

void FuseView::serve(ViewTree& view, bool foreground) {
  view_ = &view;
  fuse_daemonize(foreground ? 1 : 0);
  fuse_set_signal_handlers(fuse_get_session(fuse_));
  fuse_loop_config config{};
  config.max_idle_threads = 4;
  fuse_loop_mt(fuse_, &config);
  fuse_remove_signal_handlers(fuse_get_session(fuse_));
}

int unmount_view(const std::string& folder) {
  bool ours = false;
  std::unique_ptr<FILE, int (*)(FILE*)> mounts(setmntent("/proc/self/mounts", "re"), endmntent);
  while (const mntent* one = mounts ? getmntent(mounts.get()) : nullptr) {
    if (folder == one->mnt_dir)
      ours = std::string_view(one->mnt_type) == "fuse.operculum";  // the uppermost counts
  }
  if (!ours || umount2(folder.c_str(), MNT_DETACH | UMOUNT_NOFOLLOW) == 0) return 0;
  const char* arguments[] = {"fusermount3", "-u", "-z", "--", folder.c_str(), nullptr};
  return run_to_end(arguments);
}

}  // namespace operculum::cli
