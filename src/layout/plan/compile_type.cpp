#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/error.h"
#include "base/text.h"
#include "layout/plan/compiler.h"

namespace operculum::layout {

using syntax::ListEnd;
using syntax::Type;
using Base = StaticType::Base;

namespace {

struct Digits {
  std::string_view name;
  int base;
};
constexpr Digits kDigits[] = {{"decimal", 10}, {"octal", 8}, {"hexadecimal", 16}};
struct Variable7 {
  std::string_view name;
  NumberPlan::Form form;
};
constexpr Variable7 kVariable[] = {{"leb128", NumberPlan::Form::leb128},
                                   {"sleb128", NumberPlan::Form::sleb128},
                                   {"vlq", NumberPlan::Form::vlq}};

}  // namespace

ReadPlanPtr Compiler::read(const Type& type, Scope& scope) {
  if (!type.at) return base_read(type, scope);
  Type inner = type;
  inner.at = inner.in = nullptr;
  auto placed = std::make_unique<PlacedRead>(base_read(inner, scope));
  placed->where = type.where;
  placed->at = number(*type.at, scope);
  if (type.in) placed->in = of_base(*type.in, scope, Base::bytes);
  placed->checks = placed->inner->checks;
  placed->leaf = placed->inner->leaf && placed->in == nullptr;
  return placed;
}

ReadPlanPtr Compiler::base_read(const Type& type, Scope& scope) {
  switch (type.kind) {
    case Type::Kind::number:
    case Type::Kind::bits:
      return number_read(type, scope);
    case Type::Kind::text:
      return text_read(type, scope);
    case Type::Kind::bytes:
      return bytes_read(type, scope);
    case Type::Kind::record:
      return record_read(type, scope);
    case Type::Kind::list:
      return list_read(type, scope);
  }
  fail(type.where, "this type is not understood");
}

template <typename Plan>
void Compiler::run_length(const Type& type, Scope& scope, Plan& plan) {
  using Ends = TextPlan::Ends;
  if (type.length) {
    plan.length = number(*type.length, scope);
    auto length = plan.length->constant();
    if (length && *length < 0) fail(type.length->where, "a length cannot be negative");
    if (length) plan.fixed = static_cast<std::uint64_t>(*length);
  } else if (!type.until.empty()) {
    plan.ends = Ends::mark;
    plan.mark = type.until;
  } else if (type.sized) {
    plan.ends = Ends::sized;
    plan.size = base_read(*type.sized, scope);
  } else if (type.word) {
    plan.ends = Ends::word;
  } else if (type.to_end) {
    plan.ends = Ends::to_end;
  }
}

ReadPlanPtr Compiler::number_read(const Type& type, Scope& scope) {
  auto plan = std::make_unique<NumberPlan>();
  plan->where = type.where;
  auto digits = std::find_if(std::begin(kDigits), std::end(kDigits),
                             [&](const Digits& one) { return one.name == type.name; });
  auto variable = std::find_if(std::begin(kVariable), std::end(kVariable),
                               [&](const Variable7& one) { return one.name == type.name; });
  std::size_t named = scope.named.size();
  if (digits != std::end(kDigits)) {
    plan->form = NumberPlan::Form::digits;
    plan->base = digits->base;
    if (type.length) {
      plan->length = number(*type.length, scope);
      if (auto length = plan->length->constant())
        plan->fixed = static_cast<std::uint64_t>(std::max<std::int64_t>(*length, 0));
    } else if (type.word) {
      plan->ends = NumberPlan::Ends::word;
    } else {
      plan->ends = NumberPlan::Ends::mark;
      plan->mark = type.until;
    }
  } else if (variable != std::end(kVariable)) {
    plan->form = variable->form;
  } else {
    plan->bytes = static_cast<unsigned>(parse_number(std::string_view(type.name).substr(1)).value_or(8) / 8);
    plan->is_signed = type.name[0] == 'i';
    plan->big = type.big ? type.big : big_;
    plan->fixed = plan->bytes;
  }
  for (const auto& [what, operand] : type.steps) {
    NumberPlan::Step step;
    step.what = what == "xor" ? 'x' : what[0];
    step.operand = number(*operand, scope);
    step.constant = step.operand->constant();
    if (step.constant == 0 && step.what == '/') fail(operand->where, "a division by zero");
    plan->steps.push_back(std::move(step));
  }
  if (type.low) {
    plan->low = number(*type.low, scope);
    plan->high = number(*type.high, scope);
  }
  for (const syntax::ExprPtr& one : type.allowed) plan->allowed.push_back(number(*one, scope));
  plan->checks = plan->low != nullptr || !plan->allowed.empty();
  plan->direct = scope.named.size() == named;
  return plan;
}

ReadPlanPtr Compiler::text_read(const Type& type, Scope& scope) {
  auto plan = std::make_unique<TextPlan>();
  plan->where = type.where;
  std::size_t named = scope.named.size();
  run_length(type, scope, *plan);
  plan->padding = type.padded;
  plan->encoding = !type.encoding.empty() ? type.encoding : layout_.encoding;
  if (!plan->encoding.empty()) {
    try {
      require_encoding(plan->encoding);
    } catch (const Error&) {
      fail(type.where, fmt::format("the encoding \"{}\" is not known", plan->encoding),
           "encodings are named as in UTF-16LE, CP437, CP932, ISO-8859-1");
    }
  }
  if (type.transform) plan->transform = chain(*type.transform, scope);
  for (const syntax::ExprPtr& one : type.allowed) plan->allowed.push_back(of_base(*one, scope, Base::text));
  if (type.low) fail(type.low->where, "a text lies in no range", "write in {\"a\", \"b\"}");
  plan->checks = !plan->allowed.empty();
  plan->leaf = plan->transform == nullptr;
  plan->direct = scope.named.size() == named;
  return plan;
}

ReadPlanPtr Compiler::bytes_read(const Type& type, Scope& scope) {
  auto plan = std::make_unique<BytesPlan>();
  plan->where = type.where;
  std::size_t named = scope.named.size();
  if (type.constant) {
    if (type.constant->empty()) fail(type.where, "expected at least one byte");
    plan->constant = type.constant;
    plan->fixed = type.constant->size();
    plan->checks = true;
  } else {
    run_length(type, scope, *plan);
  }
  if (!type.allowed.empty() || type.low)
    fail(type.where, "bytes take no condition here", "write require name == \"...\", or bytes \"...\"");
  if (type.transform) plan->transform = chain(*type.transform, scope);
  plan->leaf = plan->transform == nullptr;
  plan->direct = scope.named.size() == named;
  return plan;
}

ReadPlanPtr Compiler::record_read(const Type& type, Scope& scope) {
  const RecordPlan& plan = record(type.name, type.where);
  auto made = std::make_unique<RecordRead>(plan);
  made->where = type.where;
  if (type.arguments.size() != plan.parameters)
    fail(type.where,
         fmt::format("{} takes {} values, found {}", type.name, plan.parameters, type.arguments.size()));
  const syntax::Record& syntax = *record_syntax_.at(type.name);
  for (std::size_t i = 0; i < type.arguments.size(); ++i) {
    NodePtr node = expression(*type.arguments[i].value, scope);
    StaticType wanted = type_named(syntax.parameters[i].type, syntax.parameters[i].where, Base::number);
    if (!node->type().fits(wanted))
      fail(type.arguments[i].where,
           fmt::format("{} expects {} here, found {}", type.name, wanted.name(), node->type().name()));
    made->arguments.push_back(std::move(node));
  }
  made->fixed = plan.complete && plan.plain ? plan.fixed : std::nullopt;
  made->direct = plan.complete && plan.plain;
  made->checks = plan.checks;
  made->leaf = plan.complete && plan.plain;
  return made;
}

ReadPlanPtr Compiler::list_read(const Type& type, Scope& scope) {
  Inner inner(scope);
  ReadPlanPtr element = base_read(*type.element, scope);
  auto made = std::make_unique<ListRead>(element->type.list());
  made->where = type.where;
  made->element = std::move(element);
  made->ends = type.ends;
  made->checks = made->element->checks;
  made->leaf = false;
  if (type.ends == ListEnd::until || type.ends == ListEnd::whilst) {
    made->it = scope.take();
    scope.variables.push_back({"it", made->element->type, made->it});
    scope.element_used = false;
    bool in_record = std::exchange(scope.in_record, true);  // a list has its place, wherever it is read
    made->count = condition(*type.count, scope);
    scope.in_record = in_record;
    made->looks_ahead = !scope.element_used;
  } else if (type.count) {
    made->count = number(*type.count, scope);
  }
  return made;
}

}  // namespace operculum::layout
