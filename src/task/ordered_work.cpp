#include "task/ordered_work.h"

#include <oneapi/tbb/global_control.h>
#include <oneapi/tbb/task_arena.h>

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <exception>
#include <map>
#include <mutex>
#include <thread>

namespace operculum {

namespace {

constexpr unsigned kMostInLanes = 16384;

}  // namespace

struct OrderedWork::State {
  explicit State(unsigned threads)
      : control(tbb::global_control::max_allowed_parallelism, threads + 1),
        arena(static_cast<int>(threads), 0),
        most(threads * 4) {}

  struct Piece {
    std::uint64_t number;
    Work work;
  };

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

  void start(Piece begun, std::size_t lane) {
    arena.enqueue([this, piece = std::make_shared<Piece>(std::move(begun)), lane] {
      Report report;
      bool stopped = false;
      {
        std::lock_guard check(mutex);
        stopped = error != nullptr;
      }
      try {
        if (!stopped) report = piece->work();
      } catch (...) {
        std::lock_guard keep(mutex);
        if (!error) error = std::current_exception();
      }
      piece->work = nullptr;  // what it holds is given back before the next of its lane begins
      std::unique_lock lock(mutex);
      if (lane != 0) go_on(lane);
      done.emplace(piece->number, std::move(report));
      flush(lock);
    });
  }

  /// Starts the next piece of a lane whose turn has ended; called with the mutex held.
  void go_on(std::size_t lane) {
    auto waiting = lanes.find(lane);
    if (waiting->second.empty()) {
      lanes.erase(waiting);
      return;
    }
    Piece next = std::move(waiting->second.front());
    waiting->second.pop_front();
    start(std::move(next), lane);
  }

  bool idle() const { return in_flight == 0 && !reporting; }

  tbb::global_control control;
  tbb::task_arena arena;
  const unsigned most;
  std::mutex mutex;  // guards the rest
  std::condition_variable changed;
  std::map<std::uint64_t, Report> done;
  std::map<std::size_t, std::deque<Piece>> lanes;  // those with a piece under way, and what waits behind it
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

void OrderedWork::submit(Work work, std::size_t lane) {
  State* state = state_.get();
  std::unique_lock lock(state->mutex);
  unsigned most = lane == 0 ? state->most : kMostInLanes;
  state->changed.wait(lock, [state, most] { return state->in_flight < most; });
  if (state->error) std::rethrow_exception(state->error);
  State::Piece piece{state->submitted++, std::move(work)};
  ++state->in_flight;
  if (lane != 0) {
    auto [waiting, first] = state->lanes.try_emplace(lane);
    if (!first) {
      waiting->second.push_back(std::move(piece));
      return;
    }
  }
  lock.unlock();
  state->start(std::move(piece), lane);
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
