#include "sandbox/sandbox.h"

#include <linux/seccomp.h>
#include <sys/prctl.h>

#include <cerrno>

#include "sandbox/landlock.h"
#include "sandbox/privileges.h"
#include "sandbox/system_calls.h"

namespace operculum {
namespace {

constexpr int kOldest = 2;  // of Landlock, that can do all that is asked of it

std::string weakness(const Enforced& enforced) {
  std::string text;
  if (enforced.landlock < kOldest)
    text =
        "the kernel has no Landlock, or only its first version: files outside are protected by their owners "
        "alone";
  if (!enforced.system_calls) {
    if (!text.empty()) text += "; ";
    text += "the kernel does not filter system calls";
  }
  return text;
}

}  // namespace

Enforced give_up_all_but(const Rights& rights) {
  limit_process();
  Enforced enforced;
  enforced.landlock = restrict_files(rights);
  drop_capabilities(rights);
  enforced.system_calls = restrict_system_calls(rights);
  enforced.weaker = weakness(enforced);
  return enforced;
}

Enforced enforceable() {
  Enforced could;
  could.landlock = landlock_version();
  // A filter without an address is refused for that, by a kernel that knows filters.
  could.system_calls = prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, nullptr, 0, 0) != 0 && errno == EFAULT;
  could.weaker = weakness(could);
  return could;
}

}  // namespace operculum
