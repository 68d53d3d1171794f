// The program with one more format, whose parser stands for one that a stranger's file has taken over: it
// tries what it may not, and tells how each try ended.
#include <fcntl.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <sched.h>
#include <spawn.h>
#include <sys/mman.h>
#include <sys/ptrace.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <cstring>

#include "base/error.h"
#include "cli/program.h"

namespace {

using namespace operculum;

constexpr std::string_view kHarm = "PLANTED harm\n", kCrash = "PLANTED crash\n";

std::string in_home(const char* name) {
  const char* home = std::getenv("HOME");
  return std::string(home == nullptr ? "" : home) + "/" + name;
}

bool opened(const std::string& path, int flags) {
  int file = open(path.c_str(), flags, 0666);
  if (file >= 0) close(file);
  return file >= 0;
}

bool writes_home() {
  return opened(in_home("planted"), O_WRONLY | O_CREAT);
}
bool changes_home() {
  return opened(in_home("diary.txt"), O_WRONLY | O_TRUNC) || truncate(in_home("diary.txt").c_str(), 0) == 0;
}
bool removes_home() {
  return unlink(in_home("diary.txt").c_str()) == 0;
}
bool renames_home() {
  return rename(in_home("diary.txt").c_str(), in_home("other.txt").c_str()) == 0;
}
bool reads_home() {
  return opened(in_home("diary.txt"), O_RDONLY);
}
bool reads_shadow() {
  return opened("/etc/shadow", O_RDONLY);
}
/// The file lies where reading is allowed; it is a link to one that does not.
bool follows_link() {
  return opened("way-out", O_RDONLY);
}
bool starts_program() {
  const char* words[] = {"true", nullptr};
  pid_t child = 0;
  if (posix_spawn(&child, "/bin/true", nullptr, nullptr, const_cast<char**>(words), environ) != 0)
    return false;
  return true;
}
bool becomes_program() {
  const char* words[] = {"true", nullptr};
  execv("/bin/true", const_cast<char**>(words));
  return false;  // it is still here
}
bool connects() {
  int line = socket(AF_INET, SOCK_STREAM, 0);
  if (line < 0) return false;
  close(line);
  return true;
}
bool traces() {
  return ptrace(PTRACE_ATTACH, getppid(), nullptr, nullptr) == 0;
}
bool enters_namespace() {
  return unshare(CLONE_NEWUSER) == 0;
}
bool makes_device() {
  return mknod("device", S_IFCHR | 0600, 0x0103) == 0;
}
/// Twice the machine's memory, mapped and not touched.
bool fills_memory() {
  constexpr std::size_t kPiece = 1 << 30;
  long pages = sysconf(_SC_PHYS_PAGES), page = sysconf(_SC_PAGESIZE);
  std::size_t pieces = static_cast<std::size_t>(pages) * static_cast<std::size_t>(page) / kPiece * 2 + 2;
  for (std::size_t i = 0; i < pieces; ++i) {
    void* piece =
        mmap(nullptr, kPiece, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    if (piece == MAP_FAILED) return false;
  }
  return true;
}

struct Try {
  const char* what;
  bool (*succeeds)();
};
constexpr Try kTries[] = {{"write-home", writes_home},
                          {"change-home", changes_home},
                          {"remove-home", removes_home},
                          {"rename-home", renames_home},
                          {"read-home", reads_home},
                          {"read-shadow", reads_shadow},
                          {"follow-link", follows_link},
                          {"start", starts_program},
                          {"exec", becomes_program},
                          {"connect", connects},
                          {"trace", traces},
                          {"namespace", enters_namespace},
                          {"device", makes_device},
                          {"fill-memory", fills_memory}};

ContainerPtr take_over(const Input& input, OpenContext&) {
  Bytes front = read_up_to(*input.content->source(), 0, kCrash.size());
  if (as_text(front) == kCrash) std::abort();
  std::string text;
  for (const Try& one : kTries) text += fmt::format(" {}={}", one.what, one.succeeds() ? "DONE" : "refused");
  throw Malformed("planted:" + text);
}

Format planted_format() {
  Format format;
  format.id = "planted";
  format.name = "planted parser";
  format.family = "archive";
  format.recognise = [](Probe& probe) {
    std::string_view front = as_text(probe.head(kCrash.size()));
    return front.starts_with(kHarm) || front.starts_with(kCrash) ? Match::front : Match::none;
  };
  format.open = take_over;
  return format;
}

}  // namespace

int main(int argc, char** argv) {
  cli::prepare_process();
  cli::Session session;
  session.context.preferred.push_back(planted_format());
  return cli::run_program(session, {argv + 1, argv + argc});
}
