#pragma once

#include "layout/plan/plan.h"
#include "layout/run/execute.h"
#include "layout/run/run.h"

namespace operculum::layout {

/// What a description finds out about one entry's data.
struct EntryLook {
  RecipePtr recipe;                   ///< null: it has no data
  std::optional<std::uint64_t> size;  ///< unpacked, where it is stated, in bytes
  std::optional<std::uint32_t> crc32;
  std::vector<ExpectedSum> of_data, of_stored;
  Recorder reads;  ///< what was read for it
};

/// A container read by a description. Opening runs its head; entries are listed when they are asked for.
class DescribedContainer : public Container {
 public:
  /// Tells everything that is read and what each byte is for, entries and their data included.
  virtual void observe_all(Observer& observer) = 0;
  /// Tells what is read for one entry: the element that it is listed for, and each of its roles.
  virtual void observe_entry(std::size_t index, Observer& observer) = 0;

  virtual EntryLook look(std::size_t index) = 0;  ///< throws what the description throws
  virtual std::vector<DifferingCheck> differing_checks() = 0;
};

/// Throws Malformed when the bytes are not what is described. `observer`, where given, is told of what the
/// head reads, and `recorder` of what is read of the container itself until all entries are listed; both must
/// outlive it. `stand_ins` are read in the place of parts, see Run.
std::shared_ptr<DescribedContainer> open_described(std::shared_ptr<const Plan> plan, const Input& input,
                                                   SourcePtr source, OpenContext& context,
                                                   Observer* observer = nullptr, Recorder* recorder = nullptr,
                                                   StandIns stand_ins = {});

}  // namespace operculum::layout
