#pragma once

#include <atomic>
#include <unordered_set>

#include "base/ordered_work.h"
#include "container/container.h"
#include "task/unpack.h"

namespace operculum {

/// Tells what happens while unpacking, in stored order, and counts it.
class UnpackLog {
 public:
  UnpackLog(OrderedWork& work, const UnpackRequest& request, const UnpackSink& sink)
      : work_(work), request_(request), sink_(sink) {}

  void emit(UnpackEvent event);
  void left_out(const std::string& path, std::string why, std::string_view cause = {});
  void kept(const std::string& path, const std::string& output);
  void failed(const std::string& path, const std::string& output, const Error& error);
  void finding(const std::string& path, const Finding& finding);

  /// For work that reports when it is done.
  OrderedWork::Report report_of(UnpackEvent event);

  /// Whether a file of that output path was kept as it was or failed; complete when the work is finished.
  bool not_written(const std::string& output) const { return not_written_.contains(output); }

  bool stop() const { return stop_; }  ///< something failed, and going on was not asked for

  UnpackTotals totals;

 private:
  void count(const UnpackEvent& event);

  OrderedWork& work_;
  const UnpackRequest& request_;
  const UnpackSink& sink_;
  std::unordered_set<std::string> not_written_;
  std::atomic<bool> stop_{false};
};

}  // namespace operculum
