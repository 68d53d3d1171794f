#define FUSE_USE_VERSION 35
#include <fmt/format.h>
#include <fuse.h>
#include <fuse_lowlevel.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <map>
#include <mutex>

#include "base/text.h"
#include "cli/session.h"
#include "cli/signals.h"
#include "task/view_tree.h"

namespace operculum::cli {
namespace {

constexpr std::uint64_t kBlock = 512;  // of st_blocks

ViewTree& tree() {
  return *static_cast<ViewTree*>(fuse_get_context()->private_data);
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

/// What is open, by the number that the kernel was given for it.
class OpenFiles {
 public:
  std::uint64_t add(SourcePtr source) {
    std::lock_guard lock(mutex_);
    sources_[++last_] = std::move(source);
    return last_;
  }
  SourcePtr get(std::uint64_t number) {
    std::lock_guard lock(mutex_);
    return sources_.at(number);
  }
  void remove(std::uint64_t number) {
    std::lock_guard lock(mutex_);
    sources_.erase(number);
  }

 private:
  std::mutex mutex_;  // guards the rest
  std::map<std::uint64_t, SourcePtr> sources_;
  std::uint64_t last_ = 0;
};

OpenFiles& open_files() {
  static OpenFiles files;
  return files;
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
  out.st_blocks = static_cast<blkcnt_t>((static_cast<std::uint64_t>(out.st_size) + kBlock - 1) / kBlock);
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
    if (lacks_size(*known)) out->st_size = static_cast<off_t>(tree().open(path)->size());
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

int open_entry(const char* path, fuse_file_info* info) {
  return answer([&] {
    if ((info->flags & O_ACCMODE) != O_RDONLY) return -EROFS;
    info->fh = open_files().add(tree().open(path));
    info->keep_cache = 1;
    return 0;
  });
}

int read_entry(const char*, char* buffer, std::size_t size, off_t offset, fuse_file_info* info) {
  return answer([&] {
    SourcePtr source = open_files().get(info->fh);
    return static_cast<int>(
        source->read_at(static_cast<std::uint64_t>(offset), {reinterpret_cast<Byte*>(buffer), size}));
  });
}

int release_entry(const char*, fuse_file_info* info) {
  open_files().remove(info->fh);
  return 0;
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

fuse_operations operations() {
  fuse_operations all{};
  all.getattr = get_attributes;
  all.readdir = read_folder;
  all.readlink = read_link;
  all.open = open_entry;
  all.read = read_entry;
  all.release = release_entry;
  all.getxattr = get_attribute;
  all.listxattr = list_attributes;
  return all;
}

/// The mounted view while it lives.
class Mounted {
 public:
  Mounted(ViewTree& view, const std::string& folder, const std::string& name) {
    std::string own_name = "fsname=" + name, kind = "ro,subtype=operculum";
    std::string clean;
    for (char c : own_name) clean += c == ',' || c == '\\' ? '_' : c;  // commas separate options
    const char* words[] = {"operculum", "-o", kind.c_str(), "-o", clean.c_str()};
    fuse_args args = FUSE_ARGS_INIT(5, const_cast<char**>(words));
    static const fuse_operations kOperations = operations();
    fuse_ = fuse_new(&args, &kOperations, sizeof kOperations, &view);
    fuse_opt_free_args(&args);
    if (fuse_ == nullptr || fuse_mount(fuse_, folder.c_str()) != 0) {
      if (fuse_ != nullptr) fuse_destroy(fuse_);
      throw IoError(fmt::format("cannot mount on {}", escape(folder)), EIO);
    }
  }
  ~Mounted() {
    fuse_unmount(fuse_);
    fuse_destroy(fuse_);
  }
  Mounted(const Mounted&) = delete;
  Mounted& operator=(const Mounted&) = delete;

  /// Serves until the view is unmounted or a signal comes.
  void serve(bool foreground) {
    fuse_daemonize(foreground ? 1 : 0);
    fuse_set_signal_handlers(fuse_get_session(fuse_));
    fuse_loop_config config{};
    config.max_idle_threads = 4;
    fuse_loop_mt(fuse_, &config);
    fuse_remove_signal_handlers(fuse_get_session(fuse_));
  }

 private:
  fuse* fuse_ = nullptr;
};

constexpr Choice<Enter> kEnter[] = {{"named", Enter::named}, {"all", Enter::all}, {"none", Enter::none}};

struct MountOptions {
  std::string target, folder;
  bool foreground = false;
  Enter enter = Enter::named;
};

void mount_view(Session& session, const MountOptions& options) {
  const std::string &target = options.target, &folder = options.folder;
  Place place = resolve(target, session.context, Step::into);
  if (!place.is_container())
    throw Malformed("it is no container that this program knows; `operculum identify` tells what it is");
  if (!std::filesystem::is_directory(folder)) throw IoError(escape(folder), ENOTDIR);
  if (!std::filesystem::is_empty(folder))
    throw IoError(fmt::format("{} is not empty", escape(folder)), ENOTEMPTY);
  ViewTree view(place, session.context, options.enter);
  leave_signals_alone();  // libfuse has handlers of its own, which take the view away
  Mounted mounted(view, std::filesystem::absolute(folder).string(),
                  std::filesystem::path(place.file).filename().string());
  session.say(Session::Tone::note,
              fmt::format("{} can be seen in {}, read-only; `fusermount3 -u {}` takes it away",
                          escape(target), escape(folder), shell_word(folder)));
  mounted.serve(options.foreground);
}

}  // namespace

void add_mount(CommandLine& program, Session& session) {
  Options command = program.command(
      {"mount",
       "Show what is inside in a folder, read-only, nested containers as folders",
       {"operculum mount exhibit-card.qcow2 view", "operculum mount --foreground exhibit-7.tar.xz view"}});
  auto options = std::make_shared<MountOptions>();
  command.argument("TARGET", options->target, "A container, or a folder in one");
  command.argument("FOLDER", options->folder, "An empty folder");
  command.choice<Enter>(
      "--enter", options->enter, kEnter,
      "Which files are shown as folders when they are containers: those whose names say so (the "
      "default), all, or none");
  command.flag("--foreground", options->foreground, "Stay until the view is taken away, or until a signal");
  command.run([&session, options] {
    prepare(session);
    try {
      mount_view(session, *options);
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      report_error(session, options->target, error);
    }
  });
}

}  // namespace operculum::cli
