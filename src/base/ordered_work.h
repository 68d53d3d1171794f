#pragma once

#include <functional>
#include <memory>
#include <vector>

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

  /// The same for a piece that takes microseconds: several go to a thread at once, because waking one up
  /// takes longer. They begin when enough of them have come, or something else is submitted or waited for.
  void submit_small(Work work);

  /// A report alone, kept in order.
  void report(Report report);

  /// Waits until everything submitted has run and was reported.
  void finish();

 private:
  struct State;
  void submit_batch();

  std::unique_ptr<State> state_;
  std::vector<Work> batch_;  // small pieces that have not been submitted yet
};

}  // namespace operculum
