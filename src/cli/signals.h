#pragma once

#include <string>

#include "task/progress.h"

namespace operculum::cli {

/// From here on SIGINT, SIGTERM and SIGHUP end the program at once, with one sentence, the exit code 128 +
/// signal and the terminal as it was; unless work is under way that stops at a clean place, see Stoppable.
/// Called first of all.
void handle_signals();

/// A mistake of this program that makes the system end it is told in one sentence; the exit code stays that
/// of the signal.
void tell_crashes();

/// Signals do again what they do in a program that does not care; for what handles them by itself.
void leave_signals_alone();

/// While it lives the first signal sets Progress::stop, and a second one ends the program at once.
class Stoppable {
 public:
  explicit Stoppable(Progress& progress);
  ~Stoppable();
  Stoppable(const Stoppable&) = delete;
  Stoppable& operator=(const Stoppable&) = delete;
};

/// When a signal ends the program, this folder is removed if it is empty; of many the first ones.
void remove_if_empty_at_signal(const std::string& folder);
void forget_empty_folders();

/// The signal that came last; 0 for none.
int signal_received();

/// While it lives what is typed on the terminal is not shown; ends also when a signal ends the program.
class EchoOff {
 public:
  explicit EchoOff(int terminal);
  ~EchoOff();
  EchoOff(const EchoOff&) = delete;
  EchoOff& operator=(const EchoOff&) = delete;
  bool worked() const;  ///< false when it is no terminal
};

}  // namespace operculum::cli
