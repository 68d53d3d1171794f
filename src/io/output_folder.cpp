#include "io/output_folder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <climits>
#include <cstring>
#include <ctime>
#include <memory>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"
#include "io/file_source.h"
#include "io/kernel.h"

namespace operculum {
namespace {

constexpr unsigned kMostNumbers = 10'000;
constexpr std::size_t kHoleBlock = 4096;
constexpr std::string_view kTemporaryFront = ".operculum-", kTemporaryEnding = ".part";

int open_beneath(int root, const char* path, int flags) {
  struct open_how how {};
  how.flags = static_cast<std::uint64_t>(flags) | O_CLOEXEC;
  how.resolve = RESOLVE_BENEATH | RESOLVE_NO_MAGICLINKS;
  for (;;) {
    long result = kernel::openat2(root, path, how);
    if (result >= 0 || (errno != EAGAIN && errno != EINTR)) return static_cast<int>(result);
  }
}

[[noreturn]] void fail(const std::string& doing, const std::string& path) {
  int number = errno;
  if (number == EXDEV || number == ELOOP) {
    throw IoError(
        fmt::format("{} \"{}\": a link there leads out of the folder; not followed", doing, escape(path)),
        number);
  }
  std::string sentence = fmt::format("{} \"{}\"", doing, escape(path));
  if (number == ENOSPC || number == EDQUOT || number == EROFS) throw CannotWrite(sentence, number);
  throw IoError(sentence, number);
}

[[noreturn]] void unusable(const std::string& doing, const std::string& path) {
  throw CannotWrite(fmt::format("{} \"{}\"", doing, escape(path)), errno);
}

/// The access time stays as it is.
std::array<timespec, 2> times_of(const Timestamp& modified) {
  return {timespec{0, UTIME_OMIT}, timespec{to_unix_seconds(modified), modified.nanoseconds}};
}

/// Gives the file what was asked for; returns what could not be done, for a person. The owner comes first,
/// for changing it takes set-id bits away.
std::string apply(int file, const FileMetadata& metadata) {
  std::string complaint;
  auto complain = [&](const std::string& what) {
    complaint += fmt::format("{}{}: {}", complaint.empty() ? "" : ", ", what, strerrordesc_np(errno));
  };
  if (metadata.owner && fchown(file, metadata.owner->user, metadata.owner->group) != 0)
    complain("its owner cannot be set");
  fchmod(file, metadata.mode & 07777);
  for (const auto& [name, value] : metadata.attributes) {
    if (fsetxattr(file, name.c_str(), value.data(), value.size(), 0) != 0)
      complain(fmt::format("the attribute {} cannot be set", escape(name)));
  }
  if (metadata.modified.known()) futimens(file, times_of(metadata.modified).data());
  return complaint;
}

/// A path beneath the folder, as the folder it lies in ("" for the root) and its name there.
struct PathParts {
  std::string folder, name;
};
PathParts parts_of(const std::string& path) {
  return {std::string(parent_of(path)), std::string(name_part(path))};
}

std::string new_temporary_name() {
  static std::atomic<std::uint64_t> counter{0};
  return fmt::format("{}{}-{}{}", kTemporaryFront, getpid(), counter++, kTemporaryEnding);
}

/// Whether an unfinished file is one that a run left which is dead: it is nobody's, and not of this minute,
/// in which whoever makes one may not have locked it yet.
bool is_left_over(int folder, const char* name) {
  constexpr time_t kYoung = 60;  // seconds
  Descriptor file(openat(folder, name, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
  struct stat status {};
  if (!file || fstat(file.number(), &status) != 0 || !S_ISREG(status.st_mode)) return false;
  return time(nullptr) - status.st_mtime > kYoung && flock(file.number(), LOCK_EX | LOCK_NB) == 0;
}

/// Removes such files from a folder, where the file system has no unnamed ones.
void remove_leftovers(int folder) {
  std::unique_ptr<DIR, int (*)(DIR*)> entries(
      fdopendir(openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC)), closedir);
  while (const dirent* one = entries ? readdir(entries.get()) : nullptr) {
    std::string_view name = one->d_name;
    bool unfinished = name.starts_with(kTemporaryFront) && name.ends_with(kTemporaryEnding);
    if (unfinished && is_left_over(folder, one->d_name)) unlinkat(folder, one->d_name, 0);
  }
}

/// The path by which an open file can be linked and opened again.
std::string path_of_open(int file) {
  return fmt::format("/proc/self/fd/{}", file);
}

const char* or_dot(const std::string& folder) {
  return folder.empty() ? "." : folder.c_str();
}

std::string joined(const std::string& folder, const std::string& name) {
  return folder.empty() ? name : folder + "/" + name;
}

}  // namespace

OutputFile::OutputFile(OutputFolder& owner, std::shared_ptr<Descriptor> folder, std::string folder_path,
                       std::string name)
    : folder_(std::move(folder)), folder_path_(std::move(folder_path)), name_(std::move(name)) {
  static const bool kCanBeNamed = access("/proc/self/fd", F_OK) == 0;  // see path_of_open
  if (kCanBeNamed) file_ = Descriptor(kernel::openat(folder_->number(), ".", O_RDWR | O_TMPFILE, 0600));
  if (file_) return;
  if (owner.first_named_in(folder_path_)) remove_leftovers(folder_->number());
  temporary_ = new_temporary_name();
  file_ = Descriptor(
      kernel::openat(folder_->number(), temporary_.c_str(), O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW, 0600));
  if (!file_) fail("cannot write into", joined(folder_path_, ""));
  flock(file_.number(), LOCK_EX | LOCK_NB);  // as long as this run lives: tells it from one that is dead
}

OutputFile::OutputFile(OutputFile&&) noexcept = default;

OutputFile::~OutputFile() {
  if (file_ && !temporary_.empty()) unlinkat(folder_->number(), temporary_.c_str(), 0);
}

/// Zeros that were not written yet become a hole behind which the next bytes go.
void OutputFile::place_hole() {
  if (hole_ == 0) return;
  if (lseek(file_.number(), static_cast<off_t>(hole_), SEEK_CUR) < 0)
    fail("cannot write", joined(folder_path_, name_));
  hole_ = 0;
}

void OutputFile::write(ByteView bytes) {
  place_hole();
  while (!bytes.empty()) {
    ssize_t count = kernel::write(file_.number(), bytes.data(), bytes.size());
    if (count < 0 && errno == EINTR) continue;
    if (count < 0) fail("cannot write", joined(folder_path_, name_));
    bytes = bytes.subspan(static_cast<std::size_t>(count));
  }
}

void OutputFile::write_sparse(ByteView bytes) {
  while (!bytes.empty()) {
    ByteView block = bytes.first(std::min(bytes.size(), kHoleBlock));
    bool zeros = std::all_of(block.begin(), block.end(), [](Byte b) { return b == 0; });
    if (zeros) {
      hole_ += block.size();
    } else {
      write(block);
    }
    bytes = bytes.subspan(block.size());
  }
}

std::uint64_t OutputFile::copy_from(int file, std::uint64_t at, std::uint64_t length) {
  place_hole();
  std::uint64_t done = 0;
  auto from = static_cast<off_t>(at);
  while (done < length) {
    constexpr std::uint64_t kMost = 1 << 30;  // at a time, so that a signal is answered
    ssize_t count = kernel::copy_file_range(file, &from, file_.number(),
                                            static_cast<std::size_t>(std::min(kMost, length - done)));
    if (count < 0 && errno == EINTR) continue;
    if (count < 0 && (errno == ENOSPC || errno == EDQUOT || errno == EIO))
      fail("cannot write", joined(folder_path_, name_));
    if (count <= 0) break;  // a kernel or file system that cannot, or the end of the other file
    done += static_cast<std::uint64_t>(count);
  }
  return done;
}

SourcePtr OutputFile::written() {
  std::uint64_t hole = hole_;
  place_hole();
  off_t end = lseek(file_.number(), 0, SEEK_CUR);
  if (hole > 0 && kernel::ftruncate(file_.number(), end) != 0)
    fail("cannot write", joined(folder_path_, name_));
  // A description of its own, whose position is not this one's.
  Descriptor again(kernel::open(path_of_open(file_.number()).c_str(), O_RDONLY));
  if (!again) fail("cannot read again", joined(folder_path_, name_));
  return make_file_source(std::move(again));
}

/// Gives what was replaced, and has the temporary name now, a name of its own; returns it.
std::string OutputFile::name_replaced() const {
  int folder = folder_->number();
  std::string wanted =
      kept_name_.empty() ? temporary_.substr(0, temporary_.rfind('.')) + ".kept" : kept_name_;
  std::string name = wanted;
  for (unsigned number = 2; number <= kMostNumbers; ++number) {
    if (kernel::renameat2(folder, temporary_.c_str(), folder, name.c_str(), RENAME_NOREPLACE) == 0)
      return name;
    if (errno != EEXIST) break;
    name = numbered(wanted, number);
  }
  return temporary_;
}

void OutputFile::give_temporary_name() {
  std::string name = new_temporary_name();
  if (kernel::linkat(AT_FDCWD, path_of_open(file_.number()).c_str(), folder_->number(), name.c_str(),
                     AT_SYMLINK_FOLLOW) != 0)
    fail("cannot write", joined(folder_path_, name_));
  temporary_ = name;
}

/// Gives what is there a second name, which it keeps: at no moment it has none. False where the file system
/// knows no second names, or nothing is there.
bool OutputFile::second_name(const std::string& name) {
  int folder = folder_->number();
  std::string kept = kept_name_;
  for (unsigned number = 2; number <= kMostNumbers; ++number) {
    if (kernel::linkat(folder, name.c_str(), folder, kept.c_str(), 0) == 0) {
      replaced_ = joined(folder_path_, kept);
      return true;
    }
    if (errno != EEXIST) return false;
    kept = numbered(kept_name_, number);
  }
  return false;
}

/// Gives an unnamed file its name at once; false where something has that.
bool OutputFile::link_as(const std::string& name) const {
  if (kernel::linkat(AT_FDCWD, path_of_open(file_.number()).c_str(), folder_->number(), name.c_str(),
                     AT_SYMLINK_FOLLOW) == 0)
    return true;
  if (errno != EEXIST) fail("cannot write", joined(folder_path_, name_));
  return false;
}

/// Puts the file where something may be, which goes out of the way as was asked for.
void OutputFile::replace() {
  if (temporary_.empty()) give_temporary_name();
  int folder = folder_->number();
  if (!kept_name_.empty() && second_name(name_)) {
    if (kernel::renameat2(folder, temporary_.c_str(), folder, name_.c_str(), 0) == 0) return;
    int why = errno;
    unlinkat(folder, replaced_.substr(replaced_.rfind('/') + 1).c_str(), 0);
    replaced_.clear();
    errno = why;
    fail("cannot write", joined(folder_path_, name_));
  }
  if (keep_replaced_ &&
      kernel::renameat2(folder, temporary_.c_str(), folder, name_.c_str(), RENAME_EXCHANGE) == 0) {
    replaced_ = joined(folder_path_, name_replaced());
    return;
  }
  if (kernel::renameat2(folder, temporary_.c_str(), folder, name_.c_str(), 0) != 0)
    fail("cannot write", joined(folder_path_, name_));
}

/// Gives the file a name that nothing has; false where something has it.
bool OutputFile::take_name(const std::string& name) const {
  if (temporary_.empty()) return link_as(name);
  int folder = folder_->number();
  if (kernel::renameat2(folder, temporary_.c_str(), folder, name.c_str(), RENAME_NOREPLACE) == 0) return true;
  if (errno != EEXIST) fail("cannot write", joined(folder_path_, name_));
  return false;
}

std::optional<std::string> OutputFile::commit(const FileMetadata& metadata, Existing existing) {
  if (hole_ > 0) {
    off_t end = lseek(file_.number(), static_cast<off_t>(hole_), SEEK_CUR);
    if (end < 0 || kernel::ftruncate(file_.number(), end) != 0)
      fail("cannot write", joined(folder_path_, name_));
  }
  complaint_ = apply(file_.number(), metadata);
  if (durable_ && kernel::fsync(file_.number()) != 0) fail("cannot write", joined(folder_path_, name_));
  std::string name = name_;
  if (existing == Existing::replace) {
    replace();
  } else {
    for (unsigned number = 2; !take_name(name); ++number) {
      if (existing == Existing::keep) return std::nullopt;
      errno = EEXIST;
      if (number > kMostNumbers) fail("cannot write", joined(folder_path_, name_));
      name = numbered(name_, number);
    }
  }
  if (durable_) fsync(folder_->number());
  file_.reset();
  return joined(folder_path_, name);
}

OutputFolder::OutputFolder(std::string path, Must must) : path_(std::move(path)) {
  constexpr int kFlags = O_DIRECTORY | O_PATH | O_CLOEXEC;
  if (must == Must::be_there) {
    root_ = Descriptor(kernel::open(path_.c_str(), kFlags));
    if (!root_) fail("cannot open the folder", path_);
    return;
  }
  std::size_t last = path_.rfind('/');
  for (std::size_t end = path_.find('/', 1); last != std::string::npos && end <= last;
       end = path_.find('/', end + 1)) {
    std::string part = path_.substr(0, end);
    if (kernel::mkdir(part.c_str(), 0777) == 0) {
      made_folders_.push_back(part);
    } else if (errno != EEXIST) {
      unusable("cannot make the folder", part);
    }
  }
  std::string wanted = path_;
  for (unsigned number = 2;; ++number) {
    made_root_ = kernel::mkdir(path_.c_str(), 0777) == 0;
    if (made_root_ || (errno == EEXIST && must == Must::exist)) break;
    if (errno != EEXIST || number > kMostNumbers) unusable("cannot make the folder", path_);
    path_ = fmt::format("{}~{}", wanted, number);
  }
  if (made_root_) made_folders_.push_back(path_);
  // What was made a moment ago is no link: a stranger who may write here could have put one in its place.
  root_ = Descriptor(kernel::open(path_.c_str(), kFlags | (made_root_ ? O_NOFOLLOW : 0)));
  struct stat status {};
  if (!root_ || fstat(root_.number(), &status) != 0) unusable("cannot open the folder", path_);
  if (made_root_ && status.st_uid != geteuid()) {
    errno = EACCES;
    unusable("somebody else put another folder in the place of", path_);
  }
}

std::shared_ptr<Descriptor> OutputFolder::open_folder(const std::string& path, bool make) {
  {
    std::lock_guard lock(mutex_);
    if (last_ && last_path_ == path) return last_;
  }
  const char* name = or_dot(path);
  int number = open_beneath(root_.number(), name, O_DIRECTORY | O_RDONLY);
  if (number < 0 && errno == ENOENT && make) {
    make_folder(path);
    number = open_beneath(root_.number(), name, O_DIRECTORY | O_RDONLY);
  }
  if (number < 0) fail("cannot open the folder", path);
  auto folder = std::make_shared<Descriptor>(number);
  std::lock_guard lock(mutex_);
  last_path_ = path;
  last_ = folder;
  return folder;
}

std::shared_ptr<Descriptor> OutputFolder::open_parent(const std::string& path, std::string& name) {
  PathParts parts = parts_of(path);
  name = std::move(parts.name);
  return open_folder(parts.folder, true);
}

bool OutputFolder::first_named_in(const std::string& path) {
  std::lock_guard lock(mutex_);
  return named_in_.insert(path).second;
}

OutputFile OutputFolder::begin_file(const std::string& path) {
  PathParts parts = parts_of(path);
  auto folder = open_folder(parts.folder, true);
  return OutputFile(*this, std::move(folder), std::move(parts.folder), std::move(parts.name));
}

bool OutputFolder::make_folder(const std::string& path) {
  std::string name;
  auto parent = open_parent(path, name);
  bool made = kernel::mkdirat(parent->number(), name.c_str(), 0777) == 0;
  if (!made && errno != EEXIST) fail("cannot make the folder", path);
  std::lock_guard lock(mutex_);
  if (made) made_.insert(path);
  return made || made_.contains(path);
}

bool OutputFolder::make_symbolic_link(const std::string& path, const std::string& target,
                                      const Timestamp& modified, const std::optional<Owner>& owner) {
  std::string name;
  auto parent = open_parent(path, name);
  if (kernel::symlinkat(target.c_str(), parent->number(), name.c_str()) != 0) {
    if (errno != EEXIST) fail("cannot make the link", path);
    return false;
  }
  if (owner && fchownat(parent->number(), name.c_str(), owner->user, owner->group, AT_SYMLINK_NOFOLLOW) != 0)
    fail("cannot set the owner of", path);
  if (modified.known()) {
    auto times = times_of(modified);
    utimensat(parent->number(), name.c_str(), times.data(), AT_SYMLINK_NOFOLLOW);
  }
  return true;
}

bool OutputFolder::make_hard_link(const std::string& path, const std::string& target) {
  std::string name, target_name;
  auto target_folder = open_parent(target, target_name);
  auto parent = open_parent(path, name);
  if (kernel::linkat(target_folder->number(), target_name.c_str(), parent->number(), name.c_str(), 0) == 0)
    return true;
  if (errno != EEXIST) fail("cannot make the hard link", path);
  return false;
}

bool OutputFolder::make_node(const std::string& path, std::uint32_t mode_and_type, std::uint64_t device) {
  std::string name;
  auto parent = open_parent(path, name);
  if (kernel::mknodat(parent->number(), name.c_str(), mode_and_type, device) == 0) return true;
  if (errno != EEXIST) fail("cannot make the device", path);
  return false;
}

bool OutputFolder::exists(const std::string& path) const {
  PathParts parts = parts_of(path);
  Descriptor folder(open_beneath(root_.number(), or_dot(parts.folder), O_DIRECTORY | O_PATH));
  struct stat status {};
  return folder && fstatat(folder.number(), parts.name.c_str(), &status, AT_SYMLINK_NOFOLLOW) == 0;
}

void OutputFolder::finish_folder(const std::string& path, const FileMetadata& metadata) {
  Descriptor folder(open_beneath(root_.number(), or_dot(path), O_DIRECTORY | O_RDONLY));
  if (folder) apply(folder.number(), metadata);
}

void OutputFolder::remove_file(const std::string& path) {
  std::string name;
  auto parent = open_parent(path, name);
  if (unlinkat(parent->number(), name.c_str(), 0) != 0) fail("cannot remove", path);
}

bool OutputFolder::rename_file(const std::string& path, const std::string& new_path) {
  std::string name, new_name;
  auto from = open_parent(path, name);
  auto to = open_parent(new_path, new_name);
  if (kernel::renameat2(from->number(), name.c_str(), to->number(), new_name.c_str(), RENAME_NOREPLACE) == 0)
    return true;
  if (errno != EEXIST) fail("cannot rename", path);
  return false;
}

std::optional<std::string> OutputFolder::link_target(const std::string& path) const {
  PathParts parts = parts_of(path);
  Descriptor folder(open_beneath(root_.number(), or_dot(parts.folder), O_DIRECTORY | O_PATH));
  char target[PATH_MAX];
  ssize_t length = folder ? readlinkat(folder.number(), parts.name.c_str(), target, sizeof target) : -1;
  if (length < 0) return std::nullopt;
  return std::string(target, static_cast<std::size_t>(length));
}

Descriptor OutputFolder::open_file(const std::string& path) const {
  Descriptor file(open_beneath(root_.number(), path.c_str(), O_RDONLY | O_NOFOLLOW | O_NONBLOCK));
  struct stat status {};
  if (!file || fstat(file.number(), &status) != 0 || !S_ISREG(status.st_mode)) return Descriptor();
  return file;
}

void OutputFolder::take_back_if_empty() {
  for (auto folder = made_folders_.rbegin(); folder != made_folders_.rend(); ++folder) rmdir(folder->c_str());
}

void OutputFolder::remove_folder_if_empty(const std::string& path) {
  PathParts parts = parts_of(path);
  Descriptor parent(open_beneath(root_.number(), or_dot(parts.folder), O_DIRECTORY | O_RDONLY));
  if (parent) unlinkat(parent.number(), parts.name.c_str(), AT_REMOVEDIR);
}

}  // namespace operculum
