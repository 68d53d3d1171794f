#include <fmt/format.h>

#include <algorithm>

#include "layout/plan/compiler.h"
#include "layout/plan/functions.h"
#include "layout/text/words.h"

namespace operculum::layout {

using syntax::Expr;
using Base = StaticType::Base;

namespace {

struct Operator {
  std::string_view word;
  char what;
};
constexpr Operator kArithmetic[] = {{"+", '+'},   {"-", '-'},      {"*", '*'},     {"/", '/'},  {"%", '%'},
                                    {"xor", 'x'}, {"bitand", '&'}, {"bitor", '|'}, {"<<", '<'}, {">>", '>'}};
struct ComparisonWord {
  std::string_view word;
  Comparison what;
};
constexpr ComparisonWord kComparisons[] = {
    {"==", Comparison::equal},  {"!=", Comparison::unequal},       {"<", Comparison::less},
    {">", Comparison::greater}, {"<=", Comparison::less_or_equal}, {">=", Comparison::greater_or_equal}};
constexpr std::string_view kPositions[] = {"here", "start", "left", "end"};

}  // namespace

NodePtr Compiler::expression(const Expr& expr, Scope& scope) {
  switch (expr.kind) {
    case Expr::Kind::number:
      return number_node(expr.where, expr.number);
    case Expr::Kind::text:
      return text_node(expr.where, expr.name);
    case Expr::Kind::bytes:
      return bytes_node(expr.where, expr.name);
    case Expr::Kind::form:
      return form(expr, scope);
    case Expr::Kind::name:
      return name(expr, scope);
    case Expr::Kind::field:
      return field(expr, scope);
    case Expr::Kind::element: {
      NodePtr list = expression(*expr.parts[0], scope);
      if (!list->type().is_list())
        fail(expr.parts[0]->where, fmt::format("this is {}, not a list", list->type().name()));
      return element_node(expr.where, std::move(list), number(*expr.parts[1], scope));
    }
    case Expr::Kind::slice:
      return slice(expr, scope);
    case Expr::Kind::call:
      return call(expr, scope);
    case Expr::Kind::unary:
      if (expr.name == "not") return not_node(expr.where, condition(*expr.parts[0], scope));
      return arithmetic_node(expr.where, expr.name == "-" ? '-' : 'x',
                             number_node(expr.where, expr.name == "-" ? 0 : -1),
                             number(*expr.parts[0], scope));
    case Expr::Kind::binary:
      return binary(expr, scope);
    case Expr::Kind::between:
      return between_node(expr.where, number(*expr.parts[0], scope), number(*expr.parts[1], scope),
                          number(*expr.parts[2], scope));
    case Expr::Kind::one_of:
      return one_of(expr, scope);
    case Expr::Kind::conditional:
      return conditional(expr, scope);
    case Expr::Kind::fallback:
      return fallback(expr, scope);
    case Expr::Kind::pipe: {
      NodePtr bytes = of_base(*expr.parts[0], scope, Base::bytes);
      return pipe_node(expr.where, std::move(bytes), chain(*expr.transform, scope));
    }
    case Expr::Kind::read: {
      ReadPlanPtr plan = read(*expr.type, scope);
      return read_node(expr.where, std::move(plan));
    }
    case Expr::Kind::list:
      return list(expr, scope);
    case Expr::Kind::over:
      return over(expr, scope);
    case Expr::Kind::fold:
      return fold(expr, scope);
    case Expr::Kind::chain:
      return chain_of_links(expr, scope);
    case Expr::Kind::tree:
      return tree(expr, scope);
  }
  fail(expr.where, "this expression is not understood");
}

NodePtr Compiler::of_base(const Expr& expr, Scope& scope, Base base) {
  NodePtr node = expression(expr, scope);
  if (!node->type().is(base)) {
    std::string hint =
        base == Base::text && node->type().is(Base::bytes) ? "text(...) makes a text of bytes" : "";
    fail(expr.where, fmt::format("expected {}, found {}", StaticType{base}.name(), node->type().name()),
         hint);
  }
  return node;
}

NodePtr Compiler::number(const Expr& expr, Scope& scope) {
  NodePtr node = expression(expr, scope);
  if (!node->type().numeric()) {
    fail(expr.where, fmt::format("expected a number, found {}", node->type().name()),
         node->type().is(Base::text) ? "number(...) reads the digits of a text" : "");
  }
  return node;
}

NodePtr Compiler::condition(const Expr& expr, Scope& scope) {
  NodePtr node = expression(expr, scope);
  if (!node->type().is(Base::truth)) {
    fail(expr.where, fmt::format("expected a condition, found {}", node->type().name()),
         node->type().numeric() ? "compare it: ... != 0"
                                : "a condition compares: a == b, a in 1..3, exists(a)");
  }
  return node;
}

NodePtr Compiler::name(const Expr& expr, Scope& scope) {
  const std::string& wanted = expr.name;
  if (const Variable* variable = scope.find(wanted)) {
    scope.named.push_back(variable->slot);
    if (variable->loop) scope.loop_used = variable->slot;
    scope.element_used |= wanted == "it";
    if (variable->lazy != nullptr) return lazy_node(expr.where, variable->slot, *variable->lazy);
    return slot_node(expr.where, variable->type, variable->slot, variable->raw);
  }
  if (auto global = globals_.find(wanted); global != globals_.end()) {
    return global_node(expr.where, plan_.global_types[global->second], global->second);
  }
  for (std::size_t i = 0; i < std::size(kPositions); ++i) {
    if (wanted != kPositions[i]) continue;
    if (wanted != "end" && !scope.in_record)
      fail(expr.where, fmt::format("\"{}\" is only known within a record", wanted),
           "it is a place in the record that is being read");
    scope.named.push_back(kPlace);
    return position_node(expr.where, static_cast<Position>(i));
  }
  if (wanted == "true" || wanted == "false") return truth_node(expr.where, wanted == "true");
  if (wanted == "nothing") return nothing_node(expr.where);
  if (const Function* known = find_function(wanted); known != nullptr && known->takes.empty())
    return built_in_node(expr.where, {known->gives}, known->call, {});
  if (find_function(wanted) != nullptr || function_syntax_.contains(wanted))
    fail(expr.where, fmt::format("\"{}\" is a function", wanted), fmt::format("write {}(...)", wanted));
  unknown_name(wanted, expr.where, scope);
}

void Compiler::unknown_name(const std::string& name, const Span& where, const Scope& scope) {
  if (broken_.contains(name)) fail_quietly();
  if (auto later = later_globals_.find(name); later != later_globals_.end()) {
    fail(where, fmt::format("\"{}\" is not known yet", name),
         fmt::format("it is defined further down, in line {}; a description is read from top to bottom",
                     plan_.description.place_of(later->second.at).line));
  }
  std::vector<std::string_view> known;
  for (const Variable& variable : scope.variables) known.push_back(variable.name);
  for (const auto& [global, index] : globals_) known.push_back(global);
  std::string_view meant = nearest(name, known);
  fail(where, fmt::format("\"{}\" is not known here", name),
       meant.empty() ? "" : fmt::format("did you mean {}?", meant));
}

NodePtr Compiler::field(const Expr& expr, Scope& scope) {
  NodePtr of = expression(*expr.parts[0], scope);
  const StaticType& type = of->type();
  if (!type.is(Base::record)) {
    fail(expr.parts[0]->where, fmt::format("this is {}; only records have fields", type.name()),
         type.is_list() ? "take one element: items[0], or go through them: first(x in items where ...)" : "");
  }
  const FieldPlan* found = type.record->find(expr.name);
  if (found == nullptr) {
    std::vector<std::string_view> names;
    for (const FieldPlan& one : type.record->fields) names.push_back(one.name);
    std::string_view meant = nearest(expr.name, names);
    Span last{expr.where.at + expr.where.length - std::min(expr.where.length, expr.name.size()),
              expr.name.size()};
    fail(last,
         fmt::format("a {} record has no field \"{}\"{}", type.record->name, expr.name,
                     type.record->complete ? "" : " up to here"),
         meant.empty() ? "" : fmt::format("did you mean {}?", meant));
  }
  return field_node(expr.where, std::move(of), *type.record, *found);
}

NodePtr Compiler::form(const Expr& expr, Scope& scope) {
  std::vector<FormPart> parts;
  for (std::size_t i = 0; i < expr.parts.size(); ++i) {
    FormPart shown;
    shown.part = expression(*expr.parts[i], scope);
    std::string_view how = expr.shows[i];
    const StaticType& type = shown.part->type();
    if (!type.numeric() && !type.is(Base::text)) {
      fail(expr.parts[i]->where, fmt::format("{} cannot stand in a text", type.name()),
           type.is(Base::bytes) ? "text(...) makes a text of bytes" : "");
    }
    if (!how.empty() && type.is(Base::text))
      fail(expr.parts[i]->where, "only numbers take a form such as 03 or 08x");
    shown.zeros = how.starts_with('0');
    unsigned width = 0;
    for (; !how.empty() && how[0] >= '0' && how[0] <= '9'; how.remove_prefix(1))
      width = width * 10 + static_cast<unsigned>(how[0] - '0');
    shown.width = std::min(width, 64u);
    if (how == "x" || how == "X" || how == "d") shown.kind = how[0], how = "";
    if (!how.empty())
      fail(expr.where, fmt::format("\"{}\" is no form of a number", expr.shows[i]),
           "forms are 3, 03, x, 08x, 08X");
    parts.push_back(std::move(shown));
  }
  return form_node(expr.where, expr.texts, std::move(parts));
}

NodePtr Compiler::binary(const Expr& expr, Scope& scope) {
  if (expr.name == "and" || expr.name == "or") {
    return logic_node(expr.where, expr.name == "and" ? Logic::both : Logic::either,
                      condition(*expr.parts[0], scope), condition(*expr.parts[1], scope));
  }
  for (const Operator& one : kArithmetic) {
    if (one.word == expr.name)
      return arithmetic_node(expr.where, one.what, number(*expr.parts[0], scope),
                             number(*expr.parts[1], scope));
  }
  std::size_t begin = scope.named.size();
  NodePtr a = expression(*expr.parts[0], scope);
  std::size_t middle = scope.named.size();
  NodePtr b = expression(*expr.parts[1], scope);
  if (expr.name == "==")
    scope.equalities.push_back({&expr, {a.get(), b.get()}, begin, middle, scope.named.size()});
  bool numbers = a->type().numeric() && b->type().numeric();
  bool bytes = a->type().comparable_bytes() && b->type().comparable_bytes();
  if (!numbers && !bytes)
    fail(expr.where, fmt::format("{} and {} cannot be compared", a->type().name(), b->type().name()));
  for (const ComparisonWord& one : kComparisons) {
    if (one.word == expr.name) return compare_node(expr.where, one.what, std::move(a), std::move(b));
  }
  fail(expr.where, fmt::format("\"{}\" is no operator", expr.name));
}

NodePtr Compiler::one_of(const Expr& expr, Scope& scope) {
  NodePtr a = expression(*expr.parts[0], scope);
  std::vector<NodePtr> others;
  for (std::size_t i = 1; i < expr.parts.size(); ++i) {
    NodePtr other = expression(*expr.parts[i], scope);
    bool fits = (a->type().numeric() && other->type().numeric()) ||
                (a->type().comparable_bytes() && other->type().comparable_bytes());
    if (!fits)
      fail(expr.parts[i]->where,
           fmt::format("{} and {} cannot be compared", a->type().name(), other->type().name()));
    others.push_back(std::move(other));
  }
  return one_of_node(expr.where, std::move(a), std::move(others));
}

void Compiler::same_types(const Node& a, const Node& b, const Span& where) {
  bool nothing = a.type().is(Base::unknown) || b.type().is(Base::unknown);  // "nothing" goes with everything
  if (!nothing && !a.type().fits(b.type()))
    fail(where, fmt::format("one way gives {}, the other {}", a.type().name(), b.type().name()),
         "both must give the same kind");
}

NodePtr Compiler::conditional(const Expr& expr, Scope& scope) {
  NodePtr first = condition(*expr.parts[0], scope);
  NodePtr then = expression(*expr.parts[1], scope), otherwise = expression(*expr.parts[2], scope);
  same_types(*then, *otherwise, expr.where);
  return conditional_node(expr.where, std::move(first), std::move(then), std::move(otherwise));
}

NodePtr Compiler::fallback(const Expr& expr, Scope& scope) {
  NodePtr first = expression(*expr.parts[0], scope), second = expression(*expr.parts[1], scope);
  same_types(*first, *second, expr.where);
  return fallback_node(expr.where, std::move(first), std::move(second));
}

}  // namespace operculum::layout
