#include "sandbox/landlock.h"

#include <fcntl.h>
#include <linux/landlock.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cstdint>

#include "io/descriptor.h"
#include "sandbox/sanitizers.h"

namespace operculum {
namespace {

// Of <linux/landlock.h>, whose copy in older systems ends with version 2.
constexpr std::uint64_t kTruncate = 1ull << 14;        // LANDLOCK_ACCESS_FS_TRUNCATE, version 3
constexpr std::uint64_t kDeviceControl = 1ull << 15;   // LANDLOCK_ACCESS_FS_IOCTL_DEV, version 5
constexpr std::uint64_t kBind = 1ull << 0;             // LANDLOCK_ACCESS_NET_BIND_TCP, version 4
constexpr std::uint64_t kConnect = 1ull << 1;          // LANDLOCK_ACCESS_NET_CONNECT_TCP
constexpr std::uint64_t kAbstractSockets = 1ull << 0;  // LANDLOCK_SCOPE_ABSTRACT_UNIX_SOCKET, version 6
constexpr std::uint64_t kScopeSignals = 1ull << 1;     // LANDLOCK_SCOPE_SIGNAL

/// struct landlock_ruleset_attr as of version 6.
struct RulesetAttributes {
  std::uint64_t handled_access_fs, handled_access_net, scoped;
};

constexpr std::uint64_t kRead = LANDLOCK_ACCESS_FS_READ_FILE | LANDLOCK_ACCESS_FS_READ_DIR;
constexpr std::uint64_t kOfFiles = LANDLOCK_ACCESS_FS_EXECUTE | LANDLOCK_ACCESS_FS_WRITE_FILE |
                                   LANDLOCK_ACCESS_FS_READ_FILE | kTruncate | kDeviceControl;
constexpr std::uint64_t kNewFiles = LANDLOCK_ACCESS_FS_READ_DIR | LANDLOCK_ACCESS_FS_MAKE_REG |
                                    LANDLOCK_ACCESS_FS_WRITE_FILE | LANDLOCK_ACCESS_FS_READ_FILE |
                                    LANDLOCK_ACCESS_FS_REMOVE_FILE | kTruncate;
constexpr std::uint64_t kWrite = kNewFiles | kRead | LANDLOCK_ACCESS_FS_REMOVE_DIR |
                                 LANDLOCK_ACCESS_FS_MAKE_DIR | LANDLOCK_ACCESS_FS_MAKE_SYM |
                                 LANDLOCK_ACCESS_FS_REFER;
constexpr std::uint64_t kDevices = LANDLOCK_ACCESS_FS_MAKE_CHAR | LANDLOCK_ACCESS_FS_MAKE_BLOCK |
                                   LANDLOCK_ACCESS_FS_MAKE_FIFO | LANDLOCK_ACCESS_FS_MAKE_SOCK;

/// All accesses to files that a version knows.
std::uint64_t known_to(int version) {
  std::uint64_t first = (1ull << 13) - 1;  // LANDLOCK_ACCESS_FS_EXECUTE to LANDLOCK_ACCESS_FS_MAKE_SYM
  if (version >= 2) first |= LANDLOCK_ACCESS_FS_REFER;
  if (version >= 3) first |= kTruncate;
  if (version >= 5) first |= kDeviceControl;
  return first;
}

class Ruleset {
 public:
  Ruleset(int version, bool network) : handled_(known_to(version)) {
    RulesetAttributes attributes{handled_, 0, 0};
    std::size_t size = sizeof attributes.handled_access_fs;
    if (version >= 4) {
      attributes.handled_access_net = network ? kBind : kBind | kConnect;
      size += sizeof attributes.handled_access_net;
    }
    if (version >= 6) {
      attributes.scoped = kAbstractSockets | kScopeSignals;
      size += sizeof attributes.scoped;
    }
    rules_ = Descriptor(static_cast<int>(syscall(SYS_landlock_create_ruleset, &attributes, size, 0)));
  }

  void allow(const std::vector<std::string>& paths, std::uint64_t accesses) {
    for (const std::string& path : paths) {
      Descriptor place(open(path.empty() ? "." : path.c_str(), O_PATH | O_CLOEXEC));
      struct stat status {};
      if (!place || fstat(place.number(), &status) != 0) continue;
      std::uint64_t fitting = S_ISDIR(status.st_mode) ? accesses : accesses & kOfFiles;
      if (S_ISCHR(status.st_mode) && (accesses & LANDLOCK_ACCESS_FS_WRITE_FILE) != 0)
        fitting |= kDeviceControl;
      landlock_path_beneath_attr rule{};
      rule.allowed_access = fitting & handled_;
      rule.parent_fd = place.number();
      syscall(SYS_landlock_add_rule, rules_.number(), LANDLOCK_RULE_PATH_BENEATH, &rule, 0);
    }
  }

  bool enforce() const { return rules_ && syscall(SYS_landlock_restrict_self, rules_.number(), 0) == 0; }

 private:
  std::uint64_t handled_;
  Descriptor rules_;
};

}  // namespace

int landlock_version() {
  long version = syscall(SYS_landlock_create_ruleset, nullptr, 0, LANDLOCK_CREATE_RULESET_VERSION);
  return version < 0 ? 0 : static_cast<int>(version);
}

int restrict_files(const Rights& rights) {
  constexpr int kWithLinks = 2;  // the first version that can allow a hard link to lead into another folder
  int version = landlock_version();
  if (version < (rights.write.empty() ? 1 : kWithLinks)) return 0;
  Ruleset rules(version, rights.network);
  rules.allow(rights.read, kRead);
  rules.allow(rights.write, rights.devices ? kWrite | kDevices : kWrite);
  rules.allow(rights.new_files, kNewFiles);
  if (kSanitizers) rules.allow({"/proc/self"}, kRead);
  rules.allow(rights.tidy, LANDLOCK_ACCESS_FS_REMOVE_DIR);
  return rules.enforce() ? version : 0;
}

}  // namespace operculum
