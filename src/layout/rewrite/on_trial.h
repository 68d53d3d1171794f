#pragma once

#include "layout/described_container.h"
#include "layout/rewrite/described_rewrite.h"

namespace operculum::layout {

/// A container that is opened to see what becomes of it, and thrown away: what it takes counts for itself.
struct OnTrial {
  std::unique_ptr<OpenContext> context;
  std::shared_ptr<DescribedContainer> container;

  DescribedContainer& operator*() const { return *container; }
  DescribedContainer* operator->() const { return container.get(); }
};

/// Opens other bytes by the same description, with the same files beside them; `recorder` is told of what is
/// read.
inline OnTrial open_on_trial(const DescribedFile& file, const SourcePtr& source,
                             Recorder* recorder = nullptr) {
  OnTrial out;
  out.context = file.context.for_thread();
  out.context->limits.begin(source->size(), source->size());
  out.container = open_described(file.plan, file.input, source, *out.context, nullptr, recorder);
  return out;
}

}  // namespace operculum::layout
