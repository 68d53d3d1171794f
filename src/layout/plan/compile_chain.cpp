#include <fmt/format.h>

#include "layout/plan/compiler.h"
#include "layout/text/words.h"

namespace operculum::layout {

using Base = StaticType::Base;

std::unique_ptr<const ChainPlan> Compiler::chain(const syntax::Transform& from, Scope& scope) {
  auto made = std::make_unique<ChainPlan>();
  made->where = from.where;
  if (from.kind == syntax::Transform::Kind::when) {
    made->kind = ChainPlan::Kind::when;
    made->condition = condition(*from.condition, scope);
    made->then = chain(*from.then, scope);
    if (from.otherwise) made->otherwise = chain(*from.otherwise, scope);
    return made;
  }
  if (from.kind == syntax::Transform::Kind::choose) {
    made->kind = ChainPlan::Kind::choose;
    made->condition = expression(*from.condition, scope);
    bool text = made->condition->type().is(Base::text);
    if (!text && !made->condition->type().numeric())
      fail(from.condition->where,
           fmt::format("choose takes a number or a text, found {}", made->condition->type().name()));
    for (const auto& [value, then] : from.choices)
      made->choices.emplace_back(text ? of_base(*value, scope, Base::text) : number(*value, scope),
                                 chain(*then, scope));
    if (from.otherwise) made->otherwise = chain(*from.otherwise, scope);
    return made;
  }
  made->step = find_step(from.name);
  if (made->step == nullptr) {
    std::vector<std::string_view> names;
    for (const StepKind& one : step_kinds()) names.push_back(one.name);
    std::string_view meant = nearest(from.name, names);
    fail(from.where, fmt::format("there is no codec or cipher \"{}\"", from.name),
         meant.empty() ? "docs/layout-language.md lists them" : fmt::format("did you mean {}?", meant));
  }
  const std::vector<StepParameter>& parameters = made->step->parameters;
  made->arguments.resize(parameters.size());
  std::size_t position = 0;
  for (const syntax::Argument& argument : from.arguments) {
    std::size_t at = position;
    if (!argument.name.empty()) {
      at = 0;
      while (at < parameters.size() && parameters[at].name != argument.name) ++at;
    } else {
      ++position;
    }
    if (at >= parameters.size()) {
      std::string all;
      for (const StepParameter& one : parameters)
        all += fmt::format("{}{}", all.empty() ? "it has " : ", ", one.name);
      fail(argument.where,
           argument.name.empty() ? fmt::format("{} takes {} values at the most", from.name, parameters.size())
                                 : fmt::format("{} has no \"{}\"", from.name, argument.name),
           all);
    }
    switch (parameters[at].kind) {
      case ParameterKind::number:
        made->arguments[at] = number(*argument.value, scope);
        break;
      case ParameterKind::text:
        made->arguments[at] = of_base(*argument.value, scope, Base::text);
        break;
      case ParameterKind::bytes:
      case ParameterKind::secret:
        made->arguments[at] = expression(*argument.value, scope);
        if (made->arguments[at]->type().numeric()) {
          auto constant = made->arguments[at]->constant();
          if (!constant || *constant < 0 || *constant > 255)
            fail(argument.where, "expected bytes, a text, or one byte as a constant number");
          made->arguments[at] = bytes_node(argument.where, std::string(1, static_cast<char>(*constant)));
        } else if (!made->arguments[at]->type().is(Base::bytes) &&
                   !made->arguments[at]->type().is(Base::text) &&
                   !(parameters[at].kind == ParameterKind::secret &&
                     made->arguments[at]->type().is(Base::key))) {
          fail(argument.where,
               fmt::format("expected bytes or a text, found {}", made->arguments[at]->type().name()));
        }
        break;
    }
  }
  for (std::size_t i = 0; i < parameters.size(); ++i) {
    if (parameters[i].required && made->arguments[i] == nullptr)
      fail(from.where, fmt::format("{} needs its {}", from.name, parameters[i].name),
           fmt::format("write {}({} = ...)", from.name, parameters[i].name));
  }
  return made;
}

}  // namespace operculum::layout
