#include "cli/signals.h"

#include <termios.h>
#include <unistd.h>

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

static_assert(std::atomic<Progress*>::is_always_lock_free && std::atomic<int>::is_always_lock_free);

extern "C" void on_signal(int signal) {
  received = signal;
  Progress* progress = stoppable.load();
  if (progress != nullptr && !progress->stop.exchange(true)) return;
  if (int terminal = silent_terminal.load(); terminal >= 0) tcsetattr(terminal, TCSAFLUSH, &terminal_before);
  const char* sentence = isatty(2) == 1 ? "\r\x1b[Koperculum: interrupted\n" : "operculum: interrupted\n";
  if (write(2, sentence, std::strlen(sentence)) < 0) _exit(128 + signal);
  _exit(128 + signal);
}

void set_all(void (*handler)(int)) {
  struct sigaction action {};
  action.sa_handler = handler;
  for (int signal : kSignals) sigaction(signal, &action, nullptr);
}

}  // namespace

void handle_signals() {
  set_all(on_signal);
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
