#include "task/ordered_work.h"

#include <oneapi/tbb/global_control.h>
#include <oneapi/tbb/task_arena.h>

#include <algorithm>
#include <condition_variable>
#include <exception>
#include <map>
#include <mutex>
#include <thread>

namespace operculum {

struct OrderedWork::State {
  explicit State(unsigned threads)
      : control(tbb::global_control::max_allowed_parallelism, threads + 1),
        arena(static_cast<int>(threads), 0),
        most(threads * 4) {}

  /// Runs the reports that are next in order; one thread at a time does so.
  void flush(std::unique_lock<std::mutex>& lock) {
    if (reporting) return;
    reporting = true;
    for (auto next = done.find(reported); next != done.end(); next = done.find(reported)) {
      Report report = std::move(next->second);
      done.erase(next);
      lock.unlock();
      std::exception_ptr failed;
      try {
        if (report) report();
      } catch (...) {
        failed = std::current_exception();
      }
      lock.lock();
      if (failed && !error) error = failed;
      ++reported;
      --in_flight;
      changed.notify_all();
    }
    reporting = false;
    changed.notify_all();
  }

  bool idle() const { return in_flight == 0 && !reporting; }

  tbb::global_control control;
  tbb::task_arena arena;
  const unsigned most;
  std::mutex mutex;  // guards the rest
  std::condition_variable changed;
  std::map<std::uint64_t, Report> done;
  std::uint64_t submitted = 0, reported = 0;
  unsigned in_flight = 0;
  bool reporting = false;
  std::exception_ptr error;
};

OrderedWork::OrderedWork(unsigned threads)
    : state_(std::make_unique<State>(threads != 0 ? threads
                                                  : std::max(1u, std::thread::hardware_concurrency()))) {}

OrderedWork::~OrderedWork() {
  std::unique_lock lock(state_->mutex);
  state_->changed.wait(lock, [this] { return state_->idle(); });
}

void OrderedWork::submit(std::function<Report()> work) {
  State* state = state_.get();
  std::unique_lock lock(state->mutex);
  state->changed.wait(lock, [state] { return state->in_flight < state->most; });
  if (state->error) std::rethrow_exception(state->error);
  std::uint64_t number = state->submitted++;
  ++state->in_flight;
  lock.unlock();
  state->arena.enqueue([state, number, work = std::move(work)] {
    Report report;
    bool stopped = false;
    {
      std::lock_guard check(state->mutex);
      stopped = state->error != nullptr;
    }
    try {
      if (!stopped) report = work();
    } catch (...) {
      std::lock_guard keep(state->mutex);
      if (!state->error) state->error = std::current_exception();
    }
    std::unique_lock flush_lock(state->mutex);
    state->done.emplace(number, std::move(report));
    state->flush(flush_lock);
  });
}

void OrderedWork::report(Report report) {
  State* state = state_.get();
  std::unique_lock lock(state->mutex);
  if (state->error) std::rethrow_exception(state->error);
  ++state->in_flight;
  state->done.emplace(state->submitted++, std::move(report));
  state->flush(lock);
}

void OrderedWork::finish() {
  std::unique_lock lock(state_->mutex);
  state_->changed.wait(lock, [this] { return state_->idle(); });
  if (state_->error) std::rethrow_exception(state_->error);
}

}  // namespace operculum
