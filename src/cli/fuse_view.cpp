#define FUSE_USE_VERSION 35
#include "cli/fuse_view.h"

#include <fmt/format.h>
#include <fuse_lowlevel.h>
#include <mntent.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <list>
#include <memory>
#include <mutex>

#include "base/text.h"
#include "sandbox/child.h"

namespace operculum::cli {
namespace {

constexpr std::uint64_t kBlock = 512;          // of st_blocks
constexpr double kForGood = 24 * 60 * 60;      // seconds: nothing in a view ever changes
constexpr std::uint64_t kMostAhead = 1 << 20;  // bytes that are given to the kernel before it asks for them
constexpr std::uint64_t kSmall = 128 << 10;    // bytes of a file that is given so
constexpr std::uint64_t kNear = 16, kMostNodesAhead = 256;

/// The files that were read last. The kernel is told that nothing need be opened, which saves two of the
/// three questions that it has for a small file; so a read finds its file here.
class RecentFiles {
 public:
  SourcePtr get(ViewTree& tree, ViewNode& node) {
    {
      std::lock_guard lock(mutex_);
      auto found =
          std::find_if(files_.begin(), files_.end(), [&](const File& file) { return file.node == &node; });
      if (found != files_.end()) {
        files_.splice(files_.begin(), files_, found);
        return found->source;
      }
    }
    SourcePtr source = tree.open(node);
    std::lock_guard lock(mutex_);
    files_.push_front({&node, source});
    if (files_.size() > kKept) files_.pop_back();
    return source;
  }

 private:
  static constexpr std::size_t kKept = 16;  // what is spooled of them is held as long
  struct File {
    const ViewNode* node;
    SourcePtr source;
  };
  std::mutex mutex_;  // guards the rest
  std::list<File> files_;
};

}  // namespace

struct FuseView::Server {
  fuse_session* session = nullptr;
  ViewTree* tree = nullptr;
  RecentFiles files;
  std::atomic<std::uint64_t> read_last = 0;  ///< the number of the node, or of the last one given ahead
  std::atomic_flag giving;                   ///< somebody gives files ahead

  SourcePtr file(ViewNode& node) { return files.get(*tree, node); }
};

namespace {

using Server = FuseView::Server;

Server& server_of(fuse_req_t request) {
  return *static_cast<Server*>(fuse_req_userdata(request));
}

int number_of(const Error& error) {
  switch (error.kind()) {
    case ErrorKind::needs_key:
      return EACCES;
    case ErrorKind::unsupported:
      return ENOTSUP;
    case ErrorKind::limit_exceeded:
      return EFBIG;
    default:
      return EIO;
  }
}

/// Runs what the kernel asked about a node, and answers with an error number where it throws, or returns one.
template <typename Work>
void answer(fuse_req_t request, fuse_ino_t number, Work work) {
  int error = 0;
  try {
    Server& server = server_of(request);
    ViewNode* node = server.tree->node(number);
    error = node == nullptr ? ENOENT : work(server, *node);
  } catch (const std::exception& thrown) {
    error = number_of(as_error(thrown));
  }
  if (error != 0) fuse_reply_err(request, error);
}

mode_t type_of(const ViewNode& node) {
  if (node.folder) return S_IFDIR;
  switch (node.entry->kind) {
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
struct stat attributes_of(const ViewNode& node, fuse_req_t request) {
  struct stat out {};
  out.st_ino = node.number;
  out.st_mode = type_of(node);
  std::uint32_t readable = node.folder ? 0555 : 0444;
  out.st_nlink = node.folder ? 2 : 1;
  out.st_uid = fuse_req_ctx(request)->uid;
  out.st_gid = fuse_req_ctx(request)->gid;
  if (node.entry) {
    const Entry& entry = *node.entry;
    bool program = entry.mode != Entry::kNoMode && (entry.mode & 0111) != 0;
    if (program && !node.folder) readable |= 0111;
    if (entry.modified.known()) out.st_mtim.tv_sec = to_unix_seconds(entry.modified);
    out.st_ctim = out.st_atim = out.st_mtim;
    if (!node.folder && entry.kind == EntryKind::symbolic_link)
      out.st_size = static_cast<off_t>(entry.link_target().size());
    if (!node.folder && entry.kind == EntryKind::file && entry.size_known())
      out.st_size = static_cast<off_t>(entry.size);
  }
  out.st_mode |= readable;  // what is shown may always be read, and never be written
  auto taken = static_cast<std::uint64_t>(out.st_size);
  bool sparse = node.entry && node.entry->is(Entry::sparse) && node.entry->stored_size != Entry::kUnknownSize;
  if (sparse) taken = std::min(taken, node.entry->stored_size);  // so copiers look for holes
  out.st_blocks = static_cast<blkcnt_t>((taken + kBlock - 1) / kBlock);
  return out;
}

/// The size of a file is to be found out by decoding it.
bool lacks_size(const ViewNode& node) {
  return !node.folder && node.entry && node.entry->kind == EntryKind::file && !node.entry->size_known();
}

struct stat whole_attributes_of(Server& server, ViewNode& node, fuse_req_t request) {
  struct stat out = attributes_of(node, request);
  if (lacks_size(node)) out.st_size = static_cast<off_t>(server.file(node)->size());
  return out;
}

/// Without a node: the kernel may remember that there is nothing of that name.
fuse_entry_param entry_of(const ViewNode* node, const struct stat& attributes) {
  fuse_entry_param out{};
  out.ino = node == nullptr ? 0 : node->number;
  out.attr = attributes;
  out.attr_timeout = out.entry_timeout = kForGood;
  return out;
}

void look_up(fuse_req_t request, fuse_ino_t parent, const char* name) {
  answer(request, parent, [&](Server& server, ViewNode& folder) {
    ViewNode* child = server.tree->child(folder, name);
    struct stat attributes {};
    if (child != nullptr) attributes = whole_attributes_of(server, *child, request);
    fuse_entry_param out = entry_of(child, attributes);
    fuse_reply_entry(request, &out);
    return 0;
  });
}

void get_attributes(fuse_req_t request, fuse_ino_t number, fuse_file_info*) {
  answer(request, number, [&](Server& server, ViewNode& node) {
    struct stat attributes = whole_attributes_of(server, node, request);
    fuse_reply_attr(request, &attributes, kForGood);
    return 0;
  });
}

/// See RecentFiles; folders are asked for by their place alone. The view is mounted read-only, so nobody asks
/// to write.
void open_nothing(fuse_req_t request, fuse_ino_t, fuse_file_info*) {
  fuse_reply_err(request, ENOSYS);
}

enum class Listing { names, with_attributes };

/// With the attributes of everything in it the kernel need not ask for each file.
void list_folder(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t offset, Listing how) {
  answer(request, number, [&](Server& server, ViewNode& folder) {
    if (!folder.folder) return ENOTDIR;
    auto all = server.tree->list(folder);
    std::vector<char> buffer(size);
    std::size_t used = 0;
    constexpr std::size_t kOwn = 2;  // "." and ".."
    for (auto at = static_cast<std::size_t>(offset); at < all.size() + kOwn; ++at) {
      ViewNode& node = at < kOwn ? folder : *all[at - kOwn].second;
      std::string name(at == 0 ? "." : at == 1 ? ".." : all[at - kOwn].first);
      struct stat attributes = attributes_of(node, request);
      auto next = static_cast<off_t>(at + 1);
      fuse_entry_param entry = entry_of(at < kOwn || lacks_size(node) ? nullptr : &node, attributes);
      std::size_t taken =
          how == Listing::names
              ? fuse_add_direntry(request, buffer.data() + used, size - used, name.c_str(), &attributes, next)
              : fuse_add_direntry_plus(request, buffer.data() + used, size - used, name.c_str(), &entry,
                                       next);
      if (taken > size - used) break;
      used += taken;
    }
    fuse_reply_buf(request, buffer.data(), used);
    return 0;
  });
}

void read_folder(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t offset, fuse_file_info*) {
  list_folder(request, number, size, offset, Listing::names);
}

void read_folder_plus(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t offset,
                      fuse_file_info*) {
  list_folder(request, number, size, offset, Listing::with_attributes);
}

void read_link(fuse_req_t request, fuse_ino_t number) {
  answer(request, number, [&](Server&, ViewNode& node) {
    if (!node.entry || node.folder) return EINVAL;
    fuse_reply_readlink(request, std::string(node.entry->link_target()).c_str());
    return 0;
  });
}

/// A small file whose size is known, none of whose bytes the kernel has.
bool may_be_given(const ViewNode& node) {
  return !node.folder && node.open && node.entry && node.entry->kind == EntryKind::file &&
         node.entry->size_known() && node.entry->size > 0 && node.entry->size <= kSmall;
}

/// Whoever reads file after file, as copiers do, is ahead of us in a question for each. So those that follow
/// in the container are given to the kernel before it asks: for as long as it knows them.
void give_ahead(Server& server, std::uint64_t number) {
  std::uint64_t last = server.read_last.exchange(number);
  if (number <= last || number - last > kNear || server.giving.test_and_set()) return;
  std::uint64_t given = 0;
  for (std::uint64_t next = number + 1; given < kMostAhead && next <= number + kMostNodesAhead; ++next) {
    ViewNode* node = server.tree->node(next);
    if (node == nullptr) break;
    if (!may_be_given(*node)) continue;
    Bytes bytes;
    try {
      bytes = read_up_to(*server.tree->open(*node), 0, node->entry->size);
    } catch (const std::exception&) {
      continue;  // told when it is asked for
    }
    if (bytes.size() != node->entry->size) continue;
    fuse_bufvec data{};
    data.count = 1;
    data.buf[0].size = bytes.size();
    data.buf[0].mem = bytes.data();
    if (fuse_lowlevel_notify_store(server.session, next, 0, &data, static_cast<fuse_buf_copy_flags>(0)) != 0)
      break;  // the kernel does not know it
    given += bytes.size();
    server.read_last = next;
  }
  server.giving.clear();
}

void read_file(fuse_req_t request, fuse_ino_t number, std::size_t size, off_t offset, fuse_file_info*) {
  Server& own = server_of(request);  // which is gone with its answer
  bool whole = false;
  answer(request, number, [&](Server& server, ViewNode& node) {
    Bytes buffer(size);
    std::size_t count = server.file(node)->read_at(static_cast<std::uint64_t>(offset), buffer);
    fuse_reply_buf(request, reinterpret_cast<const char*>(buffer.data()), count);
    whole = offset == 0 && count < size;
    return 0;
  });
  if (whole) give_ahead(own, number);
}

/// Where the next data or the next hole is; each file ends in a hole, says lseek(2).
void seek_in_file(fuse_req_t request, fuse_ino_t number, off_t offset, int whence, fuse_file_info*) {
  answer(request, number, [&](Server& server, ViewNode& node) {
    SourcePtr source = server.file(node);
    auto at = static_cast<std::uint64_t>(offset);
    if (offset < 0 || at >= source->size()) return ENXIO;
    while (at < source->size()) {
      std::uint64_t hole = source->hole_at(at);
      if ((hole > 0) == (whence == SEEK_HOLE)) break;
      at = std::min(source->size(), at + (hole > 0 ? hole : kBlock));
    }
    if (whence == SEEK_DATA && at >= source->size()) return ENXIO;
    fuse_reply_lseek(request, static_cast<off_t>(at));
    return 0;
  });
}

/// Answers with a value, or with its size where no room was given.
int reply_value(fuse_req_t request, std::string_view value, std::size_t size) {
  if (size == 0) return fuse_reply_xattr(request, value.size()), 0;
  if (value.size() > size) return ERANGE;
  return fuse_reply_buf(request, value.data(), value.size()), 0;
}

void get_attribute(fuse_req_t request, fuse_ino_t number, const char* name, std::size_t size) {
  answer(request, number, [&](Server&, ViewNode& node) {
    if (!node.entry || !node.entry->extra) return ENODATA;
    for (const auto& [own, value] : node.entry->extra->attributes)
      if (own == name) return reply_value(request, value, size);
    return ENODATA;
  });
}

void list_attributes(fuse_req_t request, fuse_ino_t number, std::size_t size) {
  answer(request, number, [&](Server&, ViewNode& node) {
    std::string names;
    if (node.entry && node.entry->extra) {
      for (const auto& [own, value] : node.entry->extra->attributes) names += own + '\0';
    }
    return reply_value(request, names, size);
  });
}

void tell_of_all(fuse_req_t request, fuse_ino_t) {
  struct statvfs out {};
  out.f_bsize = out.f_frsize = kBlock;
  out.f_namemax = NAME_MAX;
  out.f_flag = ST_RDONLY;
  fuse_reply_statfs(request, &out);
}

/// Attributes come with every listing: else the kernel has a question for each file of a large folder.
void begin(void*, fuse_conn_info* connection) {
  connection->want &= ~static_cast<unsigned>(FUSE_CAP_READDIRPLUS_AUTO);
}

fuse_lowlevel_ops operations() {
  fuse_lowlevel_ops all{};
  all.init = begin;
  all.lookup = look_up;
  all.getattr = get_attributes;
  all.opendir = open_nothing;
  all.readdir = read_folder;
  all.readdirplus = read_folder_plus;
  all.readlink = read_link;
  all.open = open_nothing;
  all.read = read_file;
  all.lseek = seek_in_file;
  all.getxattr = get_attribute;
  all.listxattr = list_attributes;
  all.statfs = tell_of_all;
  return all;
}

}  // namespace

FuseView::FuseView(const std::string& folder, const std::string& name, std::function<void()> take_away)
    : server_(std::make_unique<Server>()), take_away_(std::move(take_away)) {
  std::string own_name = "fsname=" + name, kind = "ro,subtype=operculum";
  std::string clean;
  for (char c : own_name) clean += c == ',' || c == '\\' ? '_' : c;  // commas separate options
  const char* words[] = {"operculum", "-o", kind.c_str(), "-o", clean.c_str()};
  fuse_args args = FUSE_ARGS_INIT(5, const_cast<char**>(words));
  static const fuse_lowlevel_ops kOperations = operations();
  fuse_session*& session = server_->session;
  session = fuse_session_new(&args, &kOperations, sizeof kOperations, server_.get());
  fuse_opt_free_args(&args);
  if (session == nullptr || fuse_session_mount(session, folder.c_str()) != 0) {
    if (session != nullptr) fuse_session_destroy(session);
    throw IoError(fmt::format("cannot mount on {}", escape(folder)), EIO);
  }
}

FuseView::~FuseView() {
  if (!unmounted_) take_away_();
  fuse_session_unmount(server_->session);  // finds it done
  fuse_session_destroy(server_->session);
}

bool FuseView::serve(ViewTree& view, bool foreground) {
  server_->tree = &view;
  fuse_daemonize(foreground ? 1 : 0);
  fuse_set_signal_handlers(server_->session);
  fuse_loop_config config{};
  config.max_idle_threads = 4;
  unmounted_ = fuse_session_loop_mt(server_->session, &config) == 0;  // else it is the number of a signal
  fuse_remove_signal_handlers(server_->session);
  return unmounted_;
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
