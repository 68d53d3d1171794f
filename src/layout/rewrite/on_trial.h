#pragma once

#include "layout/described_container.h"
#include "layout/rewrite/described_rewrite.h"

namespace operculum::layout {

/// A container that is opened to see what becomes of it, and thrown away: what it takes counts for itself.
struct OnTrial {
  std::shared_ptr<OpenContext> context;
  std::shared_ptr<DescribedContainer> container;

  DescribedContainer& operator*() const { return *container; }
  DescribedContainer* operator->() const { return container.get(); }
};

/// Opens other bytes by the same description, with the same files beside them and parts of the same places;
/// `recorder` is told of what is read.
inline OnTrial open_on_trial(const DescribedFile& file, const SourcePtr& source,
                             Recorder* recorder = nullptr) {
  OnTrial out;
  out.context = file.context->for_thread();
  if (recorder != nullptr) recorder->owner = out.context;
  SourcePtr own = file.end ? make_slice(source, 0, *file.end) : source;
  StandIns stand_ins;
  for (const OpenedPart& part : file.parts) {
    std::vector<std::uint64_t> cuts = part.cuts();
    for (std::size_t i = 0; i < part.files.size(); ++i)
      stand_ins.files[part.files[i].name] = {make_slice(source, cuts[i], cuts[i + 1] - cuts[i]), cuts[i]};
    if (part.is_file()) continue;
    stand_ins.parts.resize(std::max(stand_ins.parts.size(), part.ordinal + 1));
    stand_ins.parts[part.ordinal] = {make_slice(source, part.at, part.length), part.at};
  }
  out.context->limits.begin(own->size(), own->size());
  out.container =
      open_described(file.plan, file.input, own, *out.context, nullptr, recorder, std::move(stand_ins));
  return out;
}

}  // namespace operculum::layout
