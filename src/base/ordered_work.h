#pragma once

#include <functional>
#include <memory>

namespace operculum {

/// Runs pieces of work on several threads and their reports in the order in which they were submitted. A
/// bounded number is in flight: submit() waits when there are too many.
class OrderedWork {
 public:
  using Report = std::function<void()>;

  /// `threads` 0 means one for each processor.
  explicit OrderedWork(unsigned threads);
  ~OrderedWork();
  OrderedWork(const OrderedWork&) = delete;
  OrderedWork& operator=(const OrderedWork&) = delete;

  using Work = std::function<Report()>;

  /// `work` runs on some thread; the report it returns runs later, one at a time. What `work` throws is
  /// thrown again by the next submit() or finish(), and nothing submitted afterwards runs. Pieces with the
  /// same `lane`, unless that is 0, run one after another in order; many of them may wait, so that another
  /// lane's turn comes at the same time.
  void submit(Work work, std::size_t lane = 0);

  /// A report alone, kept in order.
  void report(Report report);

  /// Waits until everything submitted has run and was reported.
  void finish();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace operculum
