#include <fmt/format.h>

#include <algorithm>

#include "base/sum_kinds.h"
#include "layout/plan/compiler.h"
#include "layout/plan/functions.h"
#include "layout/text/words.h"

namespace operculum::layout {

using syntax::Expr;
using Base = StaticType::Base;

namespace {

std::string wrong_count(std::string_view name, std::size_t least, std::size_t most, std::size_t found) {
  return fmt::format("{} takes {} value{}, found {}", name,
                     least == most ? std::to_string(most) : fmt::format("{} to {}", least, most),
                     most == 1 ? "" : "s", found);
}

}  // namespace

/// Calls whose values are not looked at in the usual way.
struct Compiler::SpecialCalls {
  struct Call {
    std::string_view name;
    std::size_t least, most;  ///< values
    NodePtr (*make)(Compiler& c, const Expr& expr, Scope& scope);
  };
  static const Call* find(std::string_view name);

  static const Expr& value(const Expr& expr, std::size_t i) { return *expr.arguments[i].value; }

  static NodePtr bytes(Compiler& c, const Expr& expr, Scope& scope) {
    NodePtr from = c.number(value(expr, 0), scope);
    return bytes_slice_node(expr.where, nullptr, std::move(from), c.number(value(expr, 1), scope));
  }
  static NodePtr rest(Compiler& c, const Expr& expr, Scope& scope) {
    return bytes_slice_node(expr.where, nullptr, c.number(value(expr, 0), scope), nullptr);
  }
  static NodePtr part(Compiler& c, const Expr& expr, Scope& scope) {
    NodePtr of = c.of_base(value(expr, 0), scope, Base::bytes);
    NodePtr from = c.number(value(expr, 1), scope);
    return bytes_slice_node(expr.where, std::move(of), std::move(from),
                            expr.arguments.size() > 2 ? c.number(value(expr, 2), scope) : nullptr);
  }
  static NodePtr range(Compiler& c, const Expr& expr, Scope& scope) {
    NodePtr from = c.number(value(expr, 0), scope);
    return range_node(expr.where, std::move(from), c.number(value(expr, 1), scope));
  }
  static NodePtr cut(Compiler& c, const Expr& expr, Scope& scope) {
    NodePtr bytes = c.of_base(value(expr, 0), scope, Base::bytes);
    NodePtr sizes = c.expression(value(expr, 1), scope);
    if (!sizes->type().is_list() || !sizes->type().element().numeric())
      fail(expr.arguments[1].where,
           fmt::format("cut takes a list of sizes here, found {}", sizes->type().name()));
    return cut_node(expr.where, std::move(bytes), std::move(sizes));
  }
  static NodePtr lists(Compiler& c, const Expr& expr, Scope& scope) {
    std::vector<NodePtr> all;
    for (std::size_t i = 0; i < expr.arguments.size(); ++i) {
      all.push_back(c.expression(value(expr, i), scope));
      if (!all.back()->type().is_list())
        fail(expr.arguments[i].where, fmt::format("lists takes lists, found {}", all.back()->type().name()));
      c.same_types(*all.front(), *all.back(), expr.arguments[i].where);
    }
    return joined_lists_node(expr.where, std::move(all));
  }
  static NodePtr exists(Compiler& c, const Expr& expr, Scope& scope) {
    return exists_node(expr.where, c.expression(value(expr, 0), scope));
  }
  static NodePtr place(Compiler& c, const Expr& expr, Scope& scope) {
    NodePtr record = c.expression(value(expr, 0), scope);
    if (!record->type().is(Base::record) && !record->type().is_list())
      fail(expr.arguments[0].where,
           fmt::format("{} takes a record or a list, found {}", expr.name, record->type().name()));
    return where_node(expr.where, std::move(record), expr.name == "end_of");
  }
  static NodePtr known(Compiler& c, const Expr& expr, Scope& scope) {
    const Expr& hash = value(expr, 0);
    if (hash.kind != Expr::Kind::name || find_name_hash(hash.name) == nullptr) {
      fail(hash.where, "expected the name of a hash function", names_of_hashes());
    }
    bool lower = expr.arguments.size() > 2;
    if (lower && (value(expr, 2).kind != Expr::Kind::name || value(expr, 2).name != "lower"))
      fail(expr.arguments[2].where, "expected lower, or nothing",
           "known(fnv1a_32, item.hash, lower) hashes names in small letters");
    return known_node(expr.where, hash.name, c.number(value(expr, 1), scope), lower);
  }
  static NodePtr key(Compiler& c, const Expr& expr, Scope& scope) {
    NodePtr key_name = c.of_base(value(expr, 0), scope, Base::text);
    Inner inner(scope);
    std::size_t slot = scope.take();
    if (!expr.condition)
      fail(expr.where, "this does not say how a key that fits is told",
           "write key(\"name\", k where ...): without it any password at hand would be taken");
    scope.variables.push_back({expr.variable, {Base::bytes}, slot});
    NodePtr fits = c.condition(*expr.condition, scope);
    return key_node(expr.where, std::move(key_name), std::move(fits), slot);
  }
  static NodePtr parent(Compiler& c, const Expr& expr, Scope& scope) {
    scope.loop_used.reset();
    NodePtr part = c.expression(value(expr, 0), scope);
    return parent_node(expr.where, std::move(part), loop_slot(expr, scope));
  }
  static NodePtr sibling(Compiler& c, const Expr& expr, Scope& scope) {
    scope.loop_used.reset();
    c.expression(value(expr, 0), scope);
    return sibling_node(expr.where, loop_slot(expr, scope));
  }
  static std::size_t loop_slot(const Expr& expr, const Scope& scope) {
    if (!scope.loop_used)
      fail(expr.arguments[0].where,
           fmt::format("{} needs the variable of a loop in its first value", expr.name),
           "for example next_of(item.at, end) in: entry for item in items { ... }");
    return *scope.loop_used;
  }
  /// Calls that look at other elements of a loop's list.
  static NodePtr loop(Compiler& c, const Expr& expr, Scope& scope) {
    bool trail = expr.name == "trail";
    scope.loop_used.reset();
    NodePtr part = trail ? c.of_base(value(expr, 0), scope, Base::text) : c.number(value(expr, 0), scope);
    std::size_t slot = loop_slot(expr, scope);
    if (trail)
      return trail_node(expr.where, std::move(part), c.of_base(value(expr, 1), scope, Base::text), slot);
    NodePtr last = c.number(value(expr, 1), scope);
    if (expr.name == "next_of") return next_node(expr.where, std::move(part), std::move(last), slot);
    return above_node(expr.where, std::move(part), std::move(last), slot);
  }
};

const Compiler::SpecialCalls::Call* Compiler::SpecialCalls::find(std::string_view name) {
  static constexpr Call kCalls[] = {
      {"bytes", 2, 2, bytes},     {"rest", 1, 1, rest},    {"part", 2, 3, part},
      {"range", 2, 2, range},     {"cut", 2, 2, cut},      {"exists", 1, 1, exists},
      {"offset_of", 1, 1, place}, {"end_of", 1, 1, place}, {"lists", 2, 6, lists},
      {"known", 2, 3, known},     {"key", 1, 1, key},      {"trail", 2, 2, loop},
      {"next_of", 2, 2, loop},    {"above", 2, 2, loop},   {"parent", 1, 1, parent},
      {"sibling", 1, 1, sibling},
  };
  auto found =
      std::find_if(std::begin(kCalls), std::end(kCalls), [&](const Call& one) { return one.name == name; });
  return found == std::end(kCalls) ? nullptr : found;
}

std::vector<NodePtr> Compiler::positional(const Expr& expr, Scope& scope, std::string_view takes) {
  std::vector<NodePtr> nodes;
  std::size_t at = 0, required = 0, most = 0;
  for (std::size_t i = 0; i < takes.size(); ++i) {
    if (takes[i] == '?') continue;
    ++most;
    if (i + 1 >= takes.size() || takes[i + 1] != '?') ++required;
  }
  if (expr.arguments.size() < required || expr.arguments.size() > most) {
    fail(expr.where, wrong_count(expr.name, required, most, expr.arguments.size()));
  }
  for (const syntax::Argument& argument : expr.arguments) {
    char kind = takes[at++];
    if (at < takes.size() && takes[at] == '?') ++at;
    const Expr& value = *argument.value;
    if (kind == 'n') {
      nodes.push_back(number(value, scope));
    } else if (kind == 't' || kind == 'b') {
      nodes.push_back(of_base(value, scope, kind == 't' ? Base::text : Base::bytes));
    } else {
      nodes.push_back(expression(value, scope));
      bool list = expr.name == "length" && nodes.back()->type().is_list();
      if (!list && !nodes.back()->type().comparable_bytes())
        fail(value.where, fmt::format("expected bytes or a text, found {}", nodes.back()->type().name()));
    }
  }
  return nodes;
}

/// A call of a function that the description defines.
NodePtr Compiler::own_call(const Expr& expr, Scope& scope) {
  const FunctionPlan& called = function(expr.name, expr.where);
  if (expr.arguments.size() != called.parameters.size())
    fail(expr.where, fmt::format("{} takes {} values, found {}", expr.name, called.parameters.size(),
                                 expr.arguments.size()));
  std::vector<NodePtr> arguments;
  for (std::size_t i = 0; i < expr.arguments.size(); ++i) {
    NodePtr node = expression(*expr.arguments[i].value, scope);
    if (!node->type().fits(called.parameters[i]))
      fail(expr.arguments[i].where,
           fmt::format("{} expects {} here, found {}", expr.name, called.parameters[i].name(),
                       node->type().name()),
           "a parameter is a number unless it says otherwise: define path_of(folder: Folder) = ...");
    arguments.push_back(std::move(node));
  }
  return function_node(expr.where, called, std::move(arguments));
}

NodePtr Compiler::call(const Expr& expr, Scope& scope) {
  for (const syntax::Argument& argument : expr.arguments) {
    if (!argument.name.empty())
      fail(argument.where, fmt::format("{} takes its values by position", expr.name));
  }
  if (const SpecialCalls::Call* special = SpecialCalls::find(expr.name)) {
    std::size_t given = expr.arguments.size();
    if (given < special->least || given > special->most)
      fail(expr.where, wrong_count(expr.name, special->least, special->most, given));
    return special->make(*this, expr, scope);
  }
  if (expr.condition) fail(expr.condition->where, fmt::format("{} takes no condition", expr.name));
  if (function_syntax_.contains(expr.name)) return own_call(expr, scope);
  if (const Function* known = find_function(expr.name)) {
    return built_in_node(expr.where, {known->gives}, known->call, positional(expr, scope, known->takes));
  }
  std::vector<std::string_view> names;
  for (const Function& one : built_in_functions()) names.push_back(one.name);
  for (const auto& [own, syntax] : function_syntax_) names.push_back(own);
  std::string_view meant = nearest(expr.name, names);
  fail(expr.where, fmt::format("there is no function \"{}\"", expr.name),
       meant.empty() ? "docs/layout-language.md lists them" : fmt::format("did you mean {}?", meant));
}

}  // namespace operculum::layout
