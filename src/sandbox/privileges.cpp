#include "sandbox/privileges.h"

#include <linux/capability.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/sysinfo.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <cstdint>
#include <cstdio>
#include <memory>

namespace operculum {
namespace {

/// Bytes of data that this process has mapped now, as RLIMIT_DATA counts them (statm, proc(5)).
std::uint64_t data_mapped() {
  std::unique_ptr<FILE, int (*)(FILE*)> file(std::fopen("/proc/self/statm", "re"), std::fclose);
  unsigned long pages = 0;
  if (!file || std::fscanf(file.get(), "%*u %*u %*u %*u %*u %lu", &pages) != 1) return 0;
  return std::uint64_t{pages} * static_cast<std::uint64_t>(sysconf(_SC_PAGESIZE));
}

void limit_memory() {
  constexpr std::uint64_t kLeast = 1ull << 30;
  struct sysinfo machine {};
  if (sysinfo(&machine) != 0) return;
  std::uint64_t all = std::uint64_t{machine.totalram} * machine.mem_unit;
  rlimit limit{};
  if (getrlimit(RLIMIT_DATA, &limit) != 0) return;
  std::uint64_t wanted = data_mapped() + std::max(kLeast, all / 4 * 3);
  limit.rlim_cur = std::min<rlim_t>(limit.rlim_max, wanted);
  setrlimit(RLIMIT_DATA, &limit);
}

}  // namespace

void limit_process() {
  prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
  rlimit none{0, 0};
  setrlimit(RLIMIT_CORE, &none);
  limit_memory();
}

void drop_capabilities(const Rights& rights) {
  if (geteuid() != 0) return;
  auto bit = [](int capability) { return std::uint64_t{1} << capability; };
  std::uint64_t kept = bit(CAP_DAC_OVERRIDE) | bit(CAP_DAC_READ_SEARCH);  // files: Landlock says which
  if (!rights.write.empty())
    kept |= bit(CAP_FOWNER) | bit(CAP_FSETID);  // times and modes in folders of others
  if (rights.owners) kept |= bit(CAP_CHOWN);
  if (rights.devices) kept |= bit(CAP_MKNOD);
  if (rights.attributes) kept |= bit(CAP_SETFCAP) | bit(CAP_SYS_ADMIN);  // security.* and trusted.*
  __user_cap_header_struct header{_LINUX_CAPABILITY_VERSION_3, 0};
  __user_cap_data_struct now[_LINUX_CAPABILITY_U32S_3] = {};
  if (syscall(SYS_capget, &header, now) != 0) return;
  for (std::size_t i = 0; i < _LINUX_CAPABILITY_U32S_3; ++i) {
    auto part = static_cast<std::uint32_t>(kept >> (32 * i));
    now[i].effective &= part;
    now[i].permitted &= part;
    now[i].inheritable = 0;
  }
  syscall(SYS_capset, &header, now);
}

}  // namespace operculum
