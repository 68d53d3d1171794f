#pragma once

#include <dirent.h>
#include <fcntl.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cstdio>

/// The system calls by which files are read and written. Everything goes through here, so that a test can
/// have any one of them fail (tests/support/faults.h); elsewhere they are the calls themselves.
namespace operculum::kernel {

/// What fails alike.
enum class Call {
  open,     ///< a file or folder that is there
  unnamed,  ///< a file without a name (O_TMPFILE)
  make,     ///< a new file, folder, link or device
  name,     ///< what was written gets its name
  read,
  write,
};

#ifdef OPERCULUM_FAULTS
/// Whether this call is to fail; then errno is set.
bool fails(Call call);
#else
constexpr bool fails(Call) {
  return false;
}
#endif

inline int open(const char* path, int flags, mode_t mode = 0) {
  bool unnamed = (flags & O_TMPFILE) == O_TMPFILE;
  Call call = unnamed ? Call::unnamed : (flags & O_CREAT) != 0 ? Call::make : Call::open;
  return fails(call) ? -1 : ::open(path, flags | O_CLOEXEC, mode);
}
inline int openat(int folder, const char* path, int flags, mode_t mode = 0) {
  bool unnamed = (flags & O_TMPFILE) == O_TMPFILE;
  Call call = unnamed ? Call::unnamed : (flags & O_CREAT) != 0 ? Call::make : Call::open;
  return fails(call) ? -1 : ::openat(folder, path, flags | O_CLOEXEC, mode);
}
inline long openat2(int folder, const char* path, open_how& how) {
  return fails(Call::open) ? -1 : syscall(SYS_openat2, folder, path, &how, sizeof how);
}
inline DIR* opendir(const char* path) {
  return fails(Call::open) ? nullptr : ::opendir(path);
}
inline int fstat(int file, struct stat* status) {
  return fails(Call::read) ? -1 : ::fstat(file, status);
}
inline ssize_t read(int file, void* to, size_t size) {
  return fails(Call::read) ? -1 : ::read(file, to, size);
}
inline ssize_t pread(int file, void* to, size_t size, off_t at) {
  return fails(Call::read) ? -1 : ::pread(file, to, size, at);
}
inline ssize_t write(int file, const void* from, size_t size) {
  return fails(Call::write) ? -1 : ::write(file, from, size);
}
inline ssize_t pwrite(int file, const void* from, size_t size, off_t at) {
  return fails(Call::write) ? -1 : ::pwrite(file, from, size, at);
}
inline ssize_t copy_file_range(int from, off_t* at, int to, size_t size) {
  return fails(Call::write) ? -1 : ::copy_file_range(from, at, to, nullptr, size, 0);
}
inline int ftruncate(int file, off_t size) {
  return fails(Call::write) ? -1 : ::ftruncate(file, size);
}
inline int fsync(int file) {
  return fails(Call::write) ? -1 : ::fsync(file);
}
inline int mkdir(const char* path, mode_t mode) {
  return fails(Call::make) ? -1 : ::mkdir(path, mode);
}
inline int mkdirat(int folder, const char* name, mode_t mode) {
  return fails(Call::make) ? -1 : ::mkdirat(folder, name, mode);
}
inline int symlinkat(const char* target, int folder, const char* name) {
  return fails(Call::make) ? -1 : ::symlinkat(target, folder, name);
}
inline int mknodat(int folder, const char* name, mode_t mode, dev_t device) {
  return fails(Call::make) ? -1 : ::mknodat(folder, name, mode, device);
}
inline int linkat(int from, const char* old, int to, const char* name, int flags) {
  return fails(Call::name) ? -1 : ::linkat(from, old, to, name, flags);
}
inline int renameat2(int from, const char* old, int to, const char* name, unsigned flags) {
  return fails(Call::name) ? -1 : ::renameat2(from, old, to, name, flags);
}

}  // namespace operculum::kernel
