#pragma once

#include <condition_variable>
#include <mutex>
#include <thread>

#include "cli/session.h"
#include "cli/signals.h"

namespace operculum::cli {

/// Shows a task's progress on standard error while it lives: bytes, rate and time left; by default when
/// standard error is a terminal and the work lasts, or as --progress says. The work is Stoppable meanwhile.
class ProgressLine {
 public:
  explicit ProgressLine(Session& session);
  ~ProgressLine();
  ProgressLine(const ProgressLine&) = delete;
  ProgressLine& operator=(const ProgressLine&) = delete;

  /// Takes the line away so that something else can be printed; it comes back by itself.
  void clear();

 private:
  void run();
  void show(double seconds);

  Session& session_;
  Stoppable stoppable_;
  bool shown_ = false;  // guarded by mutex_, like what follows
  bool done_ = false;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::thread thread_;
};

}  // namespace operculum::cli
