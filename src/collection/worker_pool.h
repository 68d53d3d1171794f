#pragma once

#include <memory>
#include <mutex>
#include <vector>

#include "container/format.h"
#include "task/kinds.h"

namespace operculum {

/// What one thread needs to look into files, and keeps from one file to the next: a context, and a reader of
/// kinds that is made when it is first asked for, since loading its database takes longer than most files.
class Worker {
 public:
  explicit Worker(const OpenContext& context) : context_(context.for_thread()) {}
  OpenContext& context() { return *context_; }
  KindReader& kinds() {
    if (!kinds_) kinds_ = std::make_unique<KindReader>(*context_);
    return *kinds_;
  }

 private:
  std::unique_ptr<OpenContext> context_;
  std::unique_ptr<KindReader> kinds_;
};

/// Hands out workers, as many as are used at the same time. Safe to share between threads; outlives what it
/// hands out.
class WorkerPool {
 public:
  explicit WorkerPool(const OpenContext& context) : context_(context) {}

  /// A worker that comes back by itself.
  class Lease {
   public:
    Lease(WorkerPool& pool, std::unique_ptr<Worker> worker) : pool_(pool), worker_(std::move(worker)) {}
    ~Lease() { pool_.give_back(std::move(worker_)); }
    Lease(const Lease&) = delete;
    Lease& operator=(const Lease&) = delete;
    Worker* operator->() const { return worker_.get(); }
    Worker& operator*() const { return *worker_; }

   private:
    WorkerPool& pool_;
    std::unique_ptr<Worker> worker_;
  };

  Lease lease() {
    std::lock_guard lock(mutex_);
    if (idle_.empty()) return {*this, std::make_unique<Worker>(context_)};
    std::unique_ptr<Worker> worker = std::move(idle_.back());
    idle_.pop_back();
    return {*this, std::move(worker)};
  }

 private:
  void give_back(std::unique_ptr<Worker> worker) {
    std::lock_guard lock(mutex_);
    idle_.push_back(std::move(worker));
  }

  const OpenContext& context_;
  std::mutex mutex_;  // guards the rest
  std::vector<std::unique_ptr<Worker>> idle_;
};

}  // namespace operculum
