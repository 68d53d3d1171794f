#include "layout/plan/chain_plan.h"

#include <fmt/format.h>

#include "base/text.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

StepArgument evaluated(Frame& frame, const Node& node, ParameterKind kind) {
  StepArgument made;
  made.given = true;
  if (kind == ParameterKind::number) {
    made.number = node.number(frame);
  } else if (kind == ParameterKind::text || node.type().is(StaticType::Base::text)) {
    made.text = node.text_of(frame);
    made.bytes = Bytes(made.text.begin(), made.text.end());
  } else {
    made.bytes = node.bytes(frame);
  }
  return made;
}

}  // namespace

const ChainPlan* ChainPlan::chosen(Frame& frame) const {
  if (kind == Kind::call) return this;
  if (kind == Kind::when) {
    const ChainPlan* way = condition->truth(frame) ? then.get() : otherwise.get();
    return way == nullptr ? nullptr : way->chosen(frame);
  }
  bool text = condition->type().is(StaticType::Base::text);
  std::string wanted = text ? condition->text_of(frame) : "";
  std::int64_t number = text ? 0 : condition->number(frame);
  for (const auto& [choice, chain] : choices) {
    if (text ? choice->text_of(frame) == wanted : choice->number(frame) == number)
      return chain->chosen(frame);
  }
  if (otherwise == nullptr)
    frame.run.fail(where, fmt::format("no choice is given for {}",
                                      text ? "\"" + escape(wanted) + "\"" : std::to_string(number)));
  return otherwise->chosen(frame);
}

const StepKind* ChainPlan::kind_here(Frame& frame) const {
  const ChainPlan* call = chosen(frame);
  return call == nullptr ? nullptr : call->step;
}

std::optional<Step> ChainPlan::resolve(Frame& frame) const {
  const ChainPlan* call = chosen(frame);
  if (call == nullptr) return std::nullopt;
  Step made{call->step, {}};
  for (std::size_t i = 0; i < made.kind->parameters.size(); ++i) {
    const StepParameter& parameter = made.kind->parameters[i];
    if (call->arguments[i] != nullptr) {
      made.arguments.push_back(evaluated(frame, *call->arguments[i], parameter.kind));
    } else {
      made.arguments.push_back({parameter.number, {}, std::string(parameter.text), false});
    }
  }
  return made;
}

}  // namespace operculum::layout
