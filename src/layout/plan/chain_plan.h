#pragma once

#include "layout/plan/node.h"
#include "layout/run/step.h"

namespace operculum::layout {

/// What stands behind a '|': a codec or cipher with its arguments, or a choice between some.
struct ChainPlan {
  enum class Kind { call, when, choose };
  Kind kind = Kind::call;
  Span where;
  const StepKind* step = nullptr;
  std::vector<NodePtr> arguments;  // in the order of the step's parameters; null where not given
  NodePtr condition;
  std::vector<std::pair<NodePtr, std::unique_ptr<const ChainPlan>>> choices;
  std::unique_ptr<const ChainPlan> then, otherwise;

  /// The step that applies here, with its arguments evaluated; nothing when none does.
  std::optional<Step> resolve(Frame& frame) const;
  const StepKind* kind_here(Frame& frame) const;  ///< of that step, without evaluating arguments

 private:
  const ChainPlan* chosen(Frame& frame) const;  ///< a call; null when no step applies
};

}  // namespace operculum::layout
