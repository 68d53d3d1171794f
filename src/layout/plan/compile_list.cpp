#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <span>

#include "layout/plan/compiler.h"
#include "layout/text/words.h"

namespace operculum::layout {

using syntax::Expr;
using Base = StaticType::Base;

NodePtr Compiler::slice(const Expr& expr, Scope& scope) {
  NodePtr of = expression(*expr.parts[0], scope);
  NodePtr from = number(*expr.parts[1], scope), to = number(*expr.parts[2], scope);
  if (of->type().is_list()) return list_slice_node(expr.where, std::move(of), std::move(from), std::move(to));
  if (of->type().is(Base::text))
    return text_slice_node(expr.where, std::move(of), std::move(from), std::move(to));
  if (!of->type().is(Base::bytes))
    fail(expr.parts[0]->where, fmt::format("this is {}, not a list, a text or bytes", of->type().name()));
  NodePtr again = number(*expr.parts[1], scope);
  NodePtr length = arithmetic_node(expr.where, '-', std::move(to), std::move(again));
  return bytes_slice_node(expr.where, std::move(of), std::move(from), std::move(length));
}

NodePtr Compiler::list(const Expr& expr, Scope& scope) {
  if (expr.parts.empty()) fail(expr.where, "a list in brackets needs at least one element");
  std::vector<NodePtr> parts;
  for (const syntax::ExprPtr& part : expr.parts) {
    parts.push_back(expression(*part, scope));
    same_types(*parts.front(), *parts.back(), part->where);
  }
  auto some = std::find_if(parts.begin(), parts.end(),
                           [](const NodePtr& one) { return !one->type().is(Base::unknown); });
  StaticType type = (some == parts.end() ? parts.front() : *some)->type().list();
  return list_node(expr.where, type, std::move(parts));
}

namespace {

/// The conditions that all have to hold.
void conditions_of(const Expr& expr, std::vector<const Expr*>& out) {
  if (expr.kind != Expr::Kind::binary || expr.name != "and") {
    out.push_back(&expr);
    return;
  }
  for (const syntax::ExprPtr& part : expr.parts) conditions_of(*part, out);
}

}  // namespace

void Compiler::look_up(const Expr& condition, std::size_t first, const Scope& scope, Each& each) {
  std::vector<const Expr*> conditions;
  conditions_of(condition, conditions);
  auto of_loop = [&](std::size_t slot) { return slot == each.slot || slot == each.number_slot; };
  auto own = [&](std::size_t slot) { return of_loop(slot) || (slot >= scope.next && slot != kPlace); };
  bool varies = false;  // what is sought by the best one so far
  for (std::size_t i = first; i < scope.equalities.size() && !varies; ++i) {
    const Equality& one = scope.equalities[i];
    if (std::find(conditions.begin(), conditions.end(), one.expr) == conditions.end()) continue;
    std::span<const std::size_t> named(scope.named);
    std::array sides = {named.subspan(one.begin, one.middle - one.begin),
                        named.subspan(one.middle, one.end - one.middle)};
    for (std::size_t side : {0, 1}) {
      auto in_key = sides[side], in_sought = sides[1 - side];
      bool fits = std::any_of(in_key.begin(), in_key.end(), of_loop) &&
                  std::all_of(in_key.begin(), in_key.end(), own) &&
                  std::none_of(in_sought.begin(), in_sought.end(), of_loop);
      if (!fits || (each.key != nullptr && in_sought.empty())) continue;
      each.key = one.sides[side];
      each.sought = one.sides[1 - side];
      varies = !in_sought.empty();
    }
  }
}

NodePtr Compiler::elements(const Expr& expr, Scope& scope, std::string_view who) {
  NodePtr list = expression(expr, scope);
  if (list->type().is(Base::bytes)) return byte_list_node(std::move(list));
  if (!list->type().is_list())
    fail(expr.where, fmt::format("{} goes through a list or bytes; this is {}", who, list->type().name()));
  return list;
}

NodePtr Compiler::over(const Expr& expr, Scope& scope) {
  auto words = list_words();
  auto what = static_cast<Over>(std::find(words.begin(), words.end(), expr.name) - words.begin());
  NodePtr list = elements(*expr.parts[0], scope, expr.name);
  StaticType element = list->type().element();
  Inner inner(scope);
  Each each;
  each.list = std::move(list);
  each.slot = scope.take(3);
  scope.variables.push_back({expr.variable, element, each.slot, nullptr, true});
  if (!expr.number_variable.empty()) {
    each.number_slot = scope.take();
    scope.variables.push_back({expr.number_variable, {Base::number}, *each.number_slot});
  }
  std::size_t first = scope.equalities.size();
  if (expr.condition) each.condition = condition(*expr.condition, scope);
  if (expr.condition && what != Over::all) look_up(*expr.condition, first, scope, each);
  StaticType result = element;
  if (expr.body) {
    bool numbers = what == Over::sum || what == Over::least || what == Over::most;
    each.body = numbers              ? number(*expr.body, scope)
                : what == Over::join ? of_base(*expr.body, scope, Base::bytes)
                                     : expression(*expr.body, scope);
    result = each.body->type();
  } else if (what == Over::join && !element.is(Base::bytes)) {
    fail(expr.where, fmt::format("join puts runs of bytes together; these are {}", element.name()),
         "say which: join(x in list: x.data)");
  }
  if (what == Over::any || what == Over::all) result = {Base::truth};
  if (what == Over::count || what == Over::sum) result = {Base::number};
  if (what == Over::join) result = {Base::bytes};
  if (what == Over::each) result = result.list();
  return over_node(expr.where, result, what, std::move(each));
}

NodePtr Compiler::fold(const Expr& expr, Scope& scope) {
  Fold made;
  made.start = expression(*expr.parts[1], scope);
  made.list = elements(*expr.parts[0], scope, expr.name);
  Inner inner(scope);
  made.slot = scope.take(3);
  made.carried = scope.take();
  scope.variables.push_back({expr.variable, made.list->type().element(), made.slot, nullptr, true});
  scope.variables.push_back({expr.carried, made.start->type(), made.carried});
  if (!expr.number_variable.empty()) {
    made.number_slot = scope.take();
    scope.variables.push_back({expr.number_variable, {Base::number}, *made.number_slot});
  }
  made.body = expression(*expr.body, scope);
  same_types(*made.start, *made.body, expr.body->where);
  return fold_node(expr.where, std::move(made), expr.name == "scan");
}

NodePtr Compiler::chain_of_links(const Expr& expr, Scope& scope) {
  NodePtr from = expression(*expr.parts[0], scope);
  StaticType type = from->type();
  Inner inner(scope);
  std::size_t slot = scope.take();
  scope.variables.push_back({expr.variable, type, slot});
  NodePtr holds = condition(*expr.condition, scope);
  NodePtr next = expression(*expr.body, scope);
  same_types(*from, *next, expr.body->where);
  return chain_node(expr.where, type.list(), std::move(from), std::move(holds), std::move(next), slot);
}

NodePtr Compiler::tree(const Expr& expr, Scope& scope) {
  NodePtr roots = expression(*expr.parts[0], scope);
  if (!roots->type().is_list())
    fail(expr.parts[0]->where, fmt::format("a tree begins with a list; this is {}", roots->type().name()));
  StaticType type = roots->type();
  Inner inner(scope);
  std::size_t slot = scope.take();
  scope.variables.push_back({expr.variable, type.element(), slot});
  NodePtr children = expression(*expr.body, scope);
  same_types(*roots, *children, expr.body->where);
  return tree_node(expr.where, type, std::move(roots), std::move(children), slot);
}

}  // namespace operculum::layout
