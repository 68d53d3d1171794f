#pragma once

#include "layout/plan/plan.h"
#include "layout/run/run.h"

namespace operculum::layout {

/// A container read by a description. Opening runs its head; entries are listed when they are asked for.
class DescribedContainer : public Container {
 public:
  /// Tells everything that is read and what each byte is for, entries and their data included.
  virtual void observe_all(Observer& observer) = 0;
};

/// Throws Malformed when the bytes are not what is described. `observer`, where given, is told of what the
/// head reads.
std::shared_ptr<DescribedContainer> open_described(std::shared_ptr<const Plan> plan, const Input& input,
                                                   SourcePtr source, OpenContext& context,
                                                   Observer* observer = nullptr);

}  // namespace operculum::layout
