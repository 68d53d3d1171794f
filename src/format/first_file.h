#pragma once

#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>

#include "container/format.h"
#include "container/probe.h"

namespace operculum {

/// Remembers the first bytes that are looked at: what a person tells of a file is true of it, not of what is
/// in it.
class FirstFile {
 public:
  bool is(const Probe& probe) {
    auto size = probe.size();
    if (!size) return false;
    std::lock_guard lock(mutex_);
    if (!seen_) seen_ = {probe.name(), *size};
    return *seen_ == std::pair(probe.name(), *size);
  }

 private:
  std::mutex mutex_;
  std::optional<std::pair<std::string, std::uint64_t>> seen_;
};

/// The recogniser of a format that a person told of the file that they named.
inline std::function<Match(Probe&)> recognise_first_file() {
  auto first = std::make_shared<FirstFile>();
  return [first](Probe& probe) { return first->is(probe) ? Match::front : Match::none; };
}

}  // namespace operculum
