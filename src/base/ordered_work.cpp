#include "base/ordered_work.h"

#include <oneapi/tbb/global_control.h>
#include <oneapi/tbb/task_arena.h>

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <exception>
#include <map>
#include <mutex>
#include <thread>
#include <utility>

namespace operculum {

namespace {

constexpr unsigned kMostInLanes = 16384;
constexpr std::size_t kBatch = 32;  // small pieces that go to a thread at once

/// Runs pieces one after another. What one throws comes behind the reports of those in front of it, and none
/// behind it runs: as if each had been submitted by itself.
OrderedWork::Report run_batch(std::vector<OrderedWork::Work>& batch) {
  std::vector<OrderedWork::Report> reports;
  reports.reserve(batch.size());
  std::exception_ptr failed;
  for (OrderedWork::Work& work : batch) {
    try {
      reports.push_back(work());
      work = nullptr;
    } catch (...) {
      failed = std::current_exception();
      break;
    }
  }
  return [reports = std::move(reports), failed] {
    for (const OrderedWork::Report& report : reports)
      if (report) report();
    if (failed) std::rethrow_exception(failed);
  };
}

}  // namespace

/// Everything that a piece needs is there before it counts, so that memory which is not there costs only
/// whoever submits it, and nobody waits for a piece that never was.
struct OrderedWork::State {
  explicit State(unsigned threads)
      : control(tbb::global_control::max_allowed_parallelism, threads + 1),
        arena(static_cast<int>(threads), 0),
        most(threads * 4) {}

  struct Slot {
    Work work;
    std::size_t lane = 0;
    Report report = {};
    bool ready = false;  // the report, if there is one, can be run
  };

  /// Runs the reports that are next in order; one thread at a time does so.
  void flush(std::unique_lock<std::mutex>& lock) {
    if (reporting) return;
    reporting = true;
    for (auto next = slots.find(reported); next != slots.end() && next->second.ready;
         next = slots.find(reported)) {
      Report report = std::move(next->second.report);
      slots.erase(next);
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

  /// On a thread of the arena.
  void run(std::uint64_t number) {
    std::unique_lock lock(mutex);
    Slot& slot = slots.at(number);  // stays where it is
    bool stopped = error != nullptr;
    lock.unlock();
    std::exception_ptr failed;
    try {
      if (!stopped) slot.report = slot.work();
    } catch (...) {
      failed = std::current_exception();
    }
    slot.work = nullptr;  // what it holds is given back before the next of its lane begins
    lock.lock();
    if (failed && !error) error = failed;
    slot.ready = true;
    if (slot.lane != 0) go_on(slot.lane);
    flush(lock);
  }

  /// Nothing when it was begun; else why not. With or without the mutex held.
  std::exception_ptr begin(std::uint64_t number) {
    try {
      arena.enqueue([this, number] { run(number); });
      return nullptr;
    } catch (...) {
      return std::current_exception();
    }
  }

  /// A piece that could not be begun counts as done; called with the mutex held.
  void give_up(std::uint64_t number, const std::exception_ptr& why) {
    if (!error) error = why;
    Slot& slot = slots.at(number);
    slot.work = nullptr;
    slot.ready = true;
  }

  /// Starts the next piece of a lane whose turn has ended; called with the mutex held.
  void go_on(std::size_t lane) {
    auto waiting = lanes.find(lane);
    while (!waiting->second.empty()) {
      std::uint64_t next = waiting->second.front();
      waiting->second.pop_front();
      std::exception_ptr failed = begin(next);
      if (!failed) return;
      give_up(next, failed);
    }
    lanes.erase(waiting);
  }

  /// Counts a slot; called with the mutex held.
  void add(Slot slot) {
    slots.emplace(submitted, std::move(slot));
    ++in_flight;
    ++submitted;
  }

  bool idle() const { return in_flight == 0 && !reporting; }

  tbb::global_control control;
  tbb::task_arena arena;
  const unsigned most;
  std::mutex mutex;  // guards the rest, except that a slot which is under way is its thread's
  std::condition_variable changed;
  std::map<std::uint64_t, Slot> slots;  // by number
  std::map<std::size_t, std::deque<std::uint64_t>>
      lanes;  // those with a piece under way, and what waits behind it
  std::uint64_t submitted = 0, reported = 0;
  unsigned in_flight = 0;
  bool reporting = false;
  std::exception_ptr error;
};

OrderedWork::OrderedWork(unsigned threads)
    : state_(std::make_unique<State>(threads != 0 ? threads
                                                  : std::max(1u, std::thread::hardware_concurrency()))) {}

OrderedWork::~OrderedWork() {
  batch_.clear();
  std::unique_lock lock(state_->mutex);
  state_->changed.wait(lock, [this] { return state_->idle(); });
}

void OrderedWork::submit_small(Work work) {
  batch_.push_back(std::move(work));
  if (batch_.size() >= kBatch) submit_batch();
}

void OrderedWork::submit_batch() {
  if (batch_.empty()) return;
  submit([batch = std::exchange(batch_, {})]() mutable { return run_batch(batch); });
}

void OrderedWork::submit(Work work, std::size_t lane) {
  submit_batch();
  State* state = state_.get();
  std::unique_lock lock(state->mutex);
  unsigned most = lane == 0 ? state->most : kMostInLanes;
  state->changed.wait(lock, [state, most] { return state->in_flight < most; });
  if (state->error) std::rethrow_exception(state->error);
  std::uint64_t number = state->submitted;
  bool waits = false;
  if (lane != 0) {
    auto [waiting, first] = state->lanes.try_emplace(lane);
    if (!first) waiting->second.push_back(number);
    waits = !first;
  }
  try {
    state->add({std::move(work), lane});
  } catch (...) {
    if (waits) {
      state->lanes.at(lane).pop_back();
    } else if (lane != 0) {
      state->lanes.erase(lane);
    }
    throw;
  }
  if (waits) return;
  lock.unlock();
  std::exception_ptr failed = state->begin(number);
  if (!failed) return;
  lock.lock();
  state->give_up(number, failed);
  if (lane != 0) state->go_on(lane);
  state->flush(lock);
}

void OrderedWork::report(Report report) {
  submit_batch();
  State* state = state_.get();
  std::unique_lock lock(state->mutex);
  if (state->error) std::rethrow_exception(state->error);
  state->add({nullptr, 0, std::move(report), true});
  state->flush(lock);
}

void OrderedWork::finish() {
  submit_batch();
  std::unique_lock lock(state_->mutex);
  state_->changed.wait(lock, [this] { return state_->idle(); });
  if (state_->error) std::rethrow_exception(state_->error);
}

}  // namespace operculum
