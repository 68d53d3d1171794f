#pragma once

#include <functional>
#include <optional>
#include <vector>

#include "container/container.h"
#include "io/spool.h"

namespace operculum {

/// Data of entries of a container that can only be read from its start, decoded once into the spool. What is
/// behind damage is not there. Safe to share between threads once it is made.
class SolidData {
 public:
  /// Which entries, by their index in stored order.
  using Wanted = std::function<bool(std::size_t index)>;

  /// Throws LimitExceeded.
  SolidData(Container& container, SpoolBudget& budget, const Wanted& wanted);

  ContentPtr content(std::size_t index) const;  ///< throws Malformed for what could not be read

 private:
  SourcePtr all_;
  std::vector<std::optional<SpooledRuns>> places_;  // by index
};

}  // namespace operculum
