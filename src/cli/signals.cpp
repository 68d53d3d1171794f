#include "cli/signals.h"

#include <termios.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <csignal>
#include <cstring>

namespace operculum::cli {
namespace {

constexpr int kSignals[] = {SIGINT, SIGTERM, SIGHUP};

// What the handler may touch: atomics, and a terminal's settings that are complete before the number is set.
std::atomic<Progress*> stoppable{nullptr};
std::atomic<int> received{0};
std::atomic<int> silent_terminal{-1};
termios terminal_before;

constexpr std::size_t kMostFolders = 64;
std::array<std::string, kMostFolders> folders;  // complete before the count says so
std::atomic<std::size_t> folder_count{0};

static_assert(std::atomic<Progress*>::is_always_lock_free && std::atomic<int>::is_always_lock_free);

/// The innermost first; what holds anything stays.
void remove_empty_folders() {
  for (std::size_t i = folder_count.load(); i > 0; --i) rmdir(folders[i - 1].c_str());
}

extern "C" void on_signal(int signal) {
  received = signal;
  Progress* progress = stoppable.load();
  if (progress != nullptr && !progress->stop.exchange(true)) return;
  if (int terminal = silent_terminal.load(); terminal >= 0) tcsetattr(terminal, TCSAFLUSH, &terminal_before);
  remove_empty_folders();
  const char* sentence = isatty(2) == 1 ? "\r\x1b[Koperculum: interrupted\n" : "operculum: interrupted\n";
  if (write(2, sentence, std::strlen(sentence)) < 0) _exit(128 + signal);
  _exit(128 + signal);
}

/// What the system sends a process that did something impossible, or that ended itself for that.
constexpr int kCrashes[] = {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT, SIGSYS};

extern "C" void on_crash(int signal) {
  const char sentence[] =
      "operculum: error: a mistake in this program was met, and it ended; what it had finished stays, and "
      "nothing "
      "outside of what it may change was touched. Please report it with the file\n";
  remove_empty_folders();
  if (write(2, sentence, sizeof sentence - 1) < 0) _exit(128 + signal);
  raise(signal);  // SA_RESETHAND: now it ends the program
}

void set_all(void (*handler)(int)) {
  struct sigaction action {};
  action.sa_handler = handler;
  for (int signal : kSignals) sigaction(signal, &action, nullptr);
}

}  // namespace

void remove_if_empty_at_signal(const std::string& folder) {
  std::size_t count = folder_count.load();
  if (count == kMostFolders) return;
  folders[count] = folder;
  folder_count = count + 1;
}

void forget_empty_folders() {
  folder_count = 0;
}

void handle_signals() {
  set_all(on_signal);
}

void tell_crashes() {
  static std::array<char, 64 * 1024> stack;  // for when the other one is used up
  stack_t alternative{};
  alternative.ss_sp = stack.data();
  alternative.ss_size = stack.size();
  sigaltstack(&alternative, nullptr);
  struct sigaction action {};
  action.sa_handler = on_crash;
  action.sa_flags = SA_ONSTACK | static_cast<int>(SA_RESETHAND);
  for (int signal : kCrashes) {
    struct sigaction before {};
    bool taken = sigaction(signal, nullptr, &before) == 0 && before.sa_handler != SIG_DFL;
    if (!taken) sigaction(signal, &action, nullptr);  // a sanitizer tells more
  }
}

void leave_signals_alone() {
  set_all(SIG_DFL);
}

Stoppable::Stoppable(Progress& progress) {
  stoppable = &progress;
}

Stoppable::~Stoppable() {
  stoppable = nullptr;
}

int signal_received() {
  return received;
}

EchoOff::EchoOff(int terminal) {
  if (tcgetattr(terminal, &terminal_before) != 0) return;
  silent_terminal = terminal;
  termios silent = terminal_before;
  silent.c_lflag &= ~static_cast<tcflag_t>(ECHO);
  tcsetattr(terminal, TCSAFLUSH, &silent);  // before the question: what is typed after it counts
}

EchoOff::~EchoOff() {
  int terminal = silent_terminal.exchange(-1);
  if (terminal >= 0) tcsetattr(terminal, TCSAFLUSH, &terminal_before);
}

bool EchoOff::worked() const {
  return silent_terminal >= 0;
}

}  // namespace operculum::cli
