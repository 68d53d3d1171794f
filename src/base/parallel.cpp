#include "base/parallel.h"

#include <algorithm>
#include <atomic>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

namespace operculum {

void for_each_of(std::size_t count, unsigned jobs, const std::function<void(std::size_t)>& work) {
  std::size_t threads = jobs > 0 ? jobs : std::max(1u, std::thread::hardware_concurrency());
  std::atomic<std::size_t> next{0};
  std::mutex mutex;
  std::exception_ptr failure;
  auto run = [&] {
    for (std::size_t i = next++; i < count; i = next++) {
      try {
        work(i);
      } catch (...) {
        std::lock_guard lock(mutex);
        if (!failure) failure = std::current_exception();
        next = count;
      }
    }
  };
  std::vector<std::jthread> others;
  for (std::size_t i = 1; i < std::min(threads, count); ++i) others.emplace_back(run);
  run();
  others.clear();  // waits for them
  if (failure) std::rethrow_exception(failure);
}

}  // namespace operculum
