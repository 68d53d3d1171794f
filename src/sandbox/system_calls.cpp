#include "sandbox/system_calls.h"

#include <linux/fs.h>
#include <linux/sched.h>
#include <seccomp.h>
#include <sys/ioctl.h>
#include <sys/prctl.h>

#include <cerrno>
#include <memory>

#include "sandbox/sanitizers.h"

namespace operculum {
namespace {

// By what they are for. Names that this machine's kernel does not have are passed over.
constexpr const char* kData[] = {"read",
                                 "write",
                                 "pread64",
                                 "pwrite64",
                                 "readv",
                                 "writev",
                                 "preadv",
                                 "pwritev",
                                 "preadv2",
                                 "pwritev2",
                                 "lseek",
                                 "sendfile",
                                 "copy_file_range",
                                 "splice",
                                 "vmsplice",
                                 "fsync",
                                 "fdatasync",
                                 "sync_file_range",
                                 "ftruncate",
                                 "fallocate",
                                 "fadvise64",
                                 "dup",
                                 "dup2",
                                 "dup3",
                                 "pipe2",
                                 "eventfd2",
                                 "poll",
                                 "ppoll",
                                 "select",
                                 "pselect6",
                                 "epoll_create1",
                                 "epoll_ctl",
                                 "epoll_wait",
                                 "epoll_pwait",
                                 "close",
                                 "close_range",
                                 "fcntl",
                                 "flock"};
constexpr const char* kFiles[] = {
    "open",       "openat",     "openat2",    "creat",     "stat",       "fstat",      "lstat",
    "newfstatat", "statx",      "statfs",     "fstatfs",   "access",     "faccessat",  "faccessat2",
    "readlink",   "readlinkat", "getdents64", "getcwd",    "mkdir",      "mkdirat",    "rmdir",
    "unlink",     "unlinkat",   "rename",     "renameat",  "renameat2",  "link",       "linkat",
    "symlink",    "symlinkat",  "mknod",      "mknodat",   "chmod",      "fchmod",     "fchmodat",
    "chown",      "fchown",     "fchownat",   "utimensat", "umask",      "setxattr",   "fsetxattr",
    "getxattr",   "lgetxattr",  "fgetxattr",  "listxattr", "llistxattr", "flistxattr", "memfd_create"};
constexpr const char* kMemory[] = {"mmap",    "munmap", "mremap", "mprotect",
                                   "madvise", "brk",    "msync",  "mincore"};
constexpr const char* kThreads[] = {
    "futex", "set_robust_list", "get_robust_list", "rseq",       "sched_yield", "sched_getaffinity", "gettid",
    "exit",  "exit_group",      "set_tid_address", "membarrier", "getcpu",      "arch_prctl"};
constexpr const char* kSelf[] = {"getpid",    "getppid",   "getuid",    "geteuid", "getgid",    "getegid",
                                 "getgroups", "getpgrp",   "getpgid",   "getsid",  "uname",     "sysinfo",
                                 "getrlimit", "prlimit64", "getrusage", "times",   "getrandom", "capget"};
constexpr const char* kTime[] = {"clock_gettime", "clock_getres",   "clock_nanosleep",
                                 "nanosleep",     "gettimeofday",   "time",
                                 "setitimer",     "timerfd_create", "timerfd_settime"};
constexpr const char* kSignals[] = {"rt_sigaction", "rt_sigprocmask",  "rt_sigreturn", "rt_sigsuspend",
                                    "sigaltstack",  "restart_syscall", "tgkill",       "rt_sigtimedwait"};
constexpr const char* kNetwork[] = {"socket",     "connect",    "socketpair", "sendto",      "recvfrom",
                                    "sendmsg",    "recvmsg",    "sendmmsg",   "recvmmsg",    "shutdown",
                                    "setsockopt", "getsockopt", "bind",       "getsockname", "getpeername"};
constexpr const char* kBackground[] = {"setsid", "chdir", "wait4"};
constexpr const char* kOfSanitizers[] = {"clone", "getdents", "ptrace",      "prctl",
                                         "wait4", "kill",     "personality", "process_vm_readv"};

using Filter = std::unique_ptr<void, void (*)(scmp_filter_ctx)>;

/// That of an argument those bits which are looked at are as wanted.
scmp_arg_cmp has_bits(unsigned argument, scmp_datum_t looked_at, scmp_datum_t wanted) {
  return {argument, SCMP_CMP_MASKED_EQ, looked_at, wanted};
}

template <std::size_t N>
void allow(const Filter& filter, const char* const (&names)[N]) {
  for (const char* name : names) {
    int number = seccomp_syscall_resolve_name(name);
    if (number != __NR_SCMP_ERROR) seccomp_rule_add(filter.get(), SCMP_ACT_ALLOW, number, 0);
  }
}

/// Threads, but no processes, and neither in a new namespace.
void allow_threads(const Filter& filter, bool processes) {
  constexpr scmp_datum_t kNamespaces = CLONE_NEWNS | CLONE_NEWCGROUP | CLONE_NEWUTS | CLONE_NEWIPC |
                                       CLONE_NEWUSER | CLONE_NEWPID | CLONE_NEWNET;
  scmp_datum_t looked_at = processes ? kNamespaces : kNamespaces | CLONE_THREAD;
  scmp_datum_t wanted = processes ? 0 : CLONE_THREAD;
  seccomp_rule_add(filter.get(), SCMP_ACT_ALLOW, SCMP_SYS(clone), 1, has_bits(0, looked_at, wanted));
  // Its flags lie in memory, where a filter cannot look; the C library goes back to clone() then.
  seccomp_rule_add(filter.get(), SCMP_ACT_ERRNO(ENOSYS), SCMP_SYS(clone3), 0);
}

/// What is asked of terminals and block devices; nothing that types on somebody's terminal.
void allow_device_control(const Filter& filter) {
  constexpr scmp_datum_t kRequests[] = {TCGETS,     TCSETS,       TCSETSW,    TCSETSF,      TIOCGWINSZ,
                                        TIOCGPGRP,  FIONREAD,     FIONBIO,    FIONCLEX,     FIOCLEX,
                                        FICLONE,    FICLONERANGE, BLKGETSIZE, BLKGETSIZE64, BLKSSZGET,
                                        BLKPBSZGET, BLKIOMIN,     BLKIOOPT,   BLKALIGNOFF,  FS_IOC_GETFLAGS};
  constexpr scmp_datum_t kAll = 0xffffffff;
  for (scmp_datum_t request : kRequests)
    seccomp_rule_add(filter.get(), SCMP_ACT_ALLOW, SCMP_SYS(ioctl), 1, has_bits(1, kAll, request));
}

}  // namespace

bool restrict_system_calls(const Rights& rights) {
  Filter filter(seccomp_init(SCMP_ACT_ERRNO(EPERM)), seccomp_release);
  if (!filter) return false;
  allow(filter, kData);
  allow(filter, kFiles);
  allow(filter, kMemory);
  allow(filter, kThreads);
  allow(filter, kSelf);
  allow(filter, kTime);
  allow(filter, kSignals);
  allow_threads(filter, rights.fork);
  allow_device_control(filter);
  seccomp_rule_add(filter.get(), SCMP_ACT_ALLOW, SCMP_SYS(prctl), 1, has_bits(0, UINT64_MAX, PR_SET_NAME));
  if (rights.network) allow(filter, kNetwork);
  if (rights.fork) allow(filter, kBackground);
  if (kSanitizers) allow(filter, kOfSanitizers);
  return seccomp_load(filter.get()) == 0;
}

}  // namespace operculum
