#include "sandbox/deputy.h"

#include <fcntl.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>

#include "base/error.h"

namespace operculum {
namespace {

constexpr unsigned char kDo = 0, kLeave = 1;

/// One byte; false at the end.
bool receive(int line, unsigned char& byte) {
  for (;;) {
    ssize_t count = read(line, &byte, 1);
    if (count == 1) return true;
    if (count == 0 || errno != EINTR) return false;
  }
}

extern "C" void pass_over(int) {}

/// What ends the other process is not for this one; what it starts is to get signals as usual.
void outlive_signals() {
  struct sigaction action {};
  action.sa_handler = pass_over;
  for (int signal : {SIGINT, SIGTERM, SIGHUP, SIGQUIT}) sigaction(signal, &action, nullptr);
}

/// It may be there for long: whoever reads what this program writes must not wait for it.
void stand_back() {
  setsid();
  if (chdir("/") != 0) _exit(1);
  int nowhere = open("/dev/null", O_RDWR | O_CLOEXEC);
  for (int standard : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO}) dup2(nowhere, standard);
}

[[noreturn]] void serve(int line, const std::function<int()>& duty, Deputy::Unasked unasked) {
  outlive_signals();
  if (unasked == Deputy::Unasked::duty) stand_back();
  unsigned char word = 0;
  bool asked = receive(line, word);
  if (asked && word == kLeave) _exit(0);
  unsigned char status = 0;
  if (asked || unasked == Deputy::Unasked::duty) status = static_cast<unsigned char>(duty());
  if (asked && write(line, &status, 1) < 0) _exit(1);
  _exit(0);
}

}  // namespace

Deputy::Deputy(const std::function<int()>& duty, Unasked unasked) {
  int ends[2];
  if (socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0)
    throw IoError("cannot start a process", errno);
  Descriptor theirs(ends[1]);
  line_ = Descriptor(ends[0]);
  pid_t child = fork();
  if (child < 0) throw IoError("cannot start a process", errno);
  if (child == 0) {
    line_.reset();
    serve(theirs.number(), duty, unasked);
  }
}

Deputy::~Deputy() = default;

int Deputy::ask() {
  unsigned char word = kDo, status = 0;
  if (write(line_.number(), &word, 1) != 1 || !receive(line_.number(), status))
    throw IoError("the process that was to do it is gone", ESRCH);
  return status;
}

void Deputy::excuse() {
  unsigned char word = kLeave;
  if (write(line_.number(), &word, 1) != 1) throw IoError("the process that was to do it is gone", ESRCH);
}

}  // namespace operculum
