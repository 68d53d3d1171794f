#pragma once

#include "codec/codec.h"
#include "layout/run/execute.h"

namespace operculum::layout {

/// The data of an entry, with everything looked up: usable from any thread.
class DescribedContent final : public Content {
 public:
  RecipePtr recipe;
  Expected expected;
  std::vector<ExpectedSum> of_data, of_stored;
  std::vector<std::pair<RecipePtr, ExpectedSum>> beside;  ///< of other bytes that belong to the entry
  std::shared_ptr<const Plan> plan;                       ///< keeps the checks alive

  StreamPtr stream() const override;
  SourcePtr source() const override;
};

}  // namespace operculum::layout
