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

bool comparable_bytes(const StaticType& type) {
  return type.is(Base::text) || type.is(Base::bytes);
}

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
    scope.local_used = true;
    if (variable->loop) scope.loop_used = variable->slot;
    scope.element_used |= wanted == "it";
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
    scope.local_used = true;
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

NodePtr Compiler::slice(const Expr& expr, Scope& scope) {
  NodePtr of = expression(*expr.parts[0], scope);
  NodePtr from = number(*expr.parts[1], scope), to = number(*expr.parts[2], scope);
  if (of->type().is_list()) return list_slice_node(expr.where, std::move(of), std::move(from), std::move(to));
  if (!of->type().is(Base::bytes))
    fail(expr.parts[0]->where, fmt::format("this is {}, not a list or bytes", of->type().name()));
  NodePtr again = number(*expr.parts[1], scope);
  NodePtr length = arithmetic_node(expr.where, '-', std::move(to), std::move(again));
  return bytes_slice_node(expr.where, std::move(of), std::move(from), std::move(length));
}

NodePtr Compiler::form(const Expr& expr, Scope& scope) {
  std::vector<Shown> parts;
  for (std::size_t i = 0; i < expr.parts.size(); ++i) {
    Shown shown;
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
  NodePtr a = expression(*expr.parts[0], scope), b = expression(*expr.parts[1], scope);
  bool numbers = a->type().numeric() && b->type().numeric();
  bool bytes = comparable_bytes(a->type()) && comparable_bytes(b->type());
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
                (comparable_bytes(a->type()) && comparable_bytes(other->type()));
    if (!fits)
      fail(expr.parts[i]->where,
           fmt::format("{} and {} cannot be compared", a->type().name(), other->type().name()));
    others.push_back(std::move(other));
  }
  return one_of_node(expr.where, std::move(a), std::move(others));
}

void Compiler::same_types(const Node& a, const Node& b, const Span& where) {
  bool nothing = a.type().is(Base::unknown) || b.type().is(Base::unknown);  // "nothing" goes with everything
  bool same = nothing || a.type() == b.type() || (a.type().numeric() && b.type().numeric());
  if (!same)
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

NodePtr Compiler::over(const Expr& expr, Scope& scope) {
  auto words = list_words();
  auto what = static_cast<Over>(std::find(words.begin(), words.end(), expr.name) - words.begin());
  NodePtr list = expression(*expr.parts[0], scope);
  if (!list->type().is_list())
    fail(expr.parts[0]->where,
         fmt::format("{} goes through a list; this is {}", expr.name, list->type().name()));
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
  if (expr.condition) each.condition = condition(*expr.condition, scope);
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

std::vector<NodePtr> Compiler::positional(const Expr& expr, Scope& scope, std::string_view takes) {
  std::vector<NodePtr> nodes;
  std::size_t at = 0, required = 0, most = 0;
  for (std::size_t i = 0; i < takes.size(); ++i) {
    if (takes[i] == '?') continue;
    ++most;
    if (i + 1 >= takes.size() || takes[i + 1] != '?') ++required;
  }
  if (expr.arguments.size() < required || expr.arguments.size() > most) {
    fail(expr.where,
         fmt::format("{} takes {} value{}, found {}", expr.name,
                     required == most ? std::to_string(most) : fmt::format("{} to {}", required, most),
                     most == 1 ? "" : "s", expr.arguments.size()));
  }
  for (const syntax::Argument& argument : expr.arguments) {
    if (!argument.name.empty())
      fail(argument.where, fmt::format("{} takes its values by position", expr.name));
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
      if (!list && !comparable_bytes(nodes.back()->type()))
        fail(value.where, fmt::format("expected bytes or a text, found {}", nodes.back()->type().name()));
    }
  }
  return nodes;
}

NodePtr Compiler::call(const Expr& expr, Scope& scope) {
  if (NodePtr special = special_call(expr, scope)) return special;
  if (expr.condition) fail(expr.condition->where, fmt::format("{} takes no condition", expr.name));
  if (function_syntax_.contains(expr.name)) {
    const FunctionPlan& called = function(expr.name, expr.where);
    if (expr.arguments.size() != called.parameters.size())
      fail(expr.where, fmt::format("{} takes {} values, found {}", expr.name, called.parameters.size(),
                                   expr.arguments.size()));
    std::vector<NodePtr> arguments;
    for (std::size_t i = 0; i < expr.arguments.size(); ++i) {
      NodePtr node = expression(*expr.arguments[i].value, scope);
      bool fits =
          node->type() == called.parameters[i] || (node->type().numeric() && called.parameters[i].numeric());
      if (!fits)
        fail(expr.arguments[i].where,
             fmt::format("{} expects {} here, found {}", expr.name, called.parameters[i].name(),
                         node->type().name()),
             "a parameter is a number unless it says otherwise: define path_of(folder: Folder) = ...");
      arguments.push_back(std::move(node));
    }
    return function_node(expr.where, called, std::move(arguments));
  }
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

/// Calls whose values are not looked at in the usual way; nothing when it is none of these.
NodePtr Compiler::special_call(const Expr& expr, Scope& scope) {
  const std::string& name = expr.name;
  auto& given = expr.arguments;
  auto wants = [&](std::size_t least, std::size_t most) {
    if (given.size() < least || given.size() > most)
      fail(expr.where,
           fmt::format("{} takes {} value{}, found {}", name,
                       least == most ? std::to_string(most) : fmt::format("{} to {}", least, most),
                       most == 1 ? "" : "s", given.size()));
  };
  if (name == "bytes") {
    wants(2, 2);
    return bytes_slice_node(expr.where, nullptr, number(*given[0].value, scope),
                            number(*given[1].value, scope));
  }
  if (name == "rest") {
    wants(1, 1);
    return bytes_slice_node(expr.where, nullptr, number(*given[0].value, scope), nullptr);
  }
  if (name == "part") {
    wants(2, 3);
    NodePtr of = of_base(*given[0].value, scope, Base::bytes);
    NodePtr from = number(*given[1].value, scope);
    return bytes_slice_node(expr.where, std::move(of), std::move(from),
                            given.size() > 2 ? number(*given[2].value, scope) : nullptr);
  }
  if (name == "range") {
    wants(2, 2);
    return range_node(expr.where, number(*given[0].value, scope), number(*given[1].value, scope));
  }
  if (name == "cut") {
    wants(2, 2);
    NodePtr bytes = of_base(*given[0].value, scope, Base::bytes);
    NodePtr sizes = expression(*given[1].value, scope);
    if (!sizes->type().is_list() || !sizes->type().element().numeric())
      fail(given[1].where, fmt::format("cut takes a list of sizes here, found {}", sizes->type().name()));
    return cut_node(expr.where, std::move(bytes), std::move(sizes));
  }
  if (name == "exists") {
    wants(1, 1);
    return exists_node(expr.where, expression(*given[0].value, scope));
  }
  if (name == "offset_of" || name == "end_of") {
    wants(1, 1);
    NodePtr record = expression(*given[0].value, scope);
    if (!record->type().is(Base::record))
      fail(given[0].where, fmt::format("{} takes a record, found {}", name, record->type().name()));
    return where_node(expr.where, std::move(record), name == "end_of");
  }
  if (name == "known") {
    wants(2, 3);
    const Expr& hash = *given[0].value;
    if (hash.kind != Expr::Kind::name || find_name_hash(hash.name) == nullptr) {
      std::string all;
      for (const NameHash& one : name_hashes()) all += fmt::format("{}{}", all.empty() ? "" : ", ", one.name);
      fail(hash.where, "expected the name of a hash function", all);
    }
    bool lower = given.size() > 2;
    if (lower && (given[2].value->kind != Expr::Kind::name || given[2].value->name != "lower"))
      fail(given[2].where, "expected lower, or nothing",
           "known(fnv1a_32, item.hash, lower) hashes names in small letters");
    return known_node(expr.where, hash.name, number(*given[1].value, scope), lower);
  }
  if (name == "key") {
    wants(1, 1);
    NodePtr key_name = of_base(*given[0].value, scope, Base::text);
    Inner inner(scope);
    std::size_t slot = scope.take();
    NodePtr fits;
    if (expr.condition) {
      scope.variables.push_back({expr.variable, {Base::bytes}, slot});
      fits = condition(*expr.condition, scope);
    }
    return key_node(expr.where, std::move(key_name), std::move(fits), slot);
  }
  if (name == "trail" || name == "next_of" || name == "above") {
    wants(2, 2);
    return loop_call(expr, scope);
  }
  return nullptr;
}

/// Calls that look at other elements of a loop's list.
NodePtr Compiler::loop_call(const Expr& expr, Scope& scope) {
  auto& given = expr.arguments;
  scope.loop_used.reset();
  NodePtr part =
      expr.name == "trail" ? of_base(*given[0].value, scope, Base::text) : number(*given[0].value, scope);
  auto slot = scope.loop_used;
  if (!slot) {
    fail(given[0].where, fmt::format("{} needs the variable of a loop in its first value", expr.name),
         "for example next_of(item.at, end) in: entry for item in items { ... }");
  }
  if (expr.name == "trail")
    return trail_node(expr.where, std::move(part), of_base(*given[1].value, scope, Base::text), *slot);
  NodePtr last = number(*given[1].value, scope);
  if (expr.name == "next_of") return next_node(expr.where, std::move(part), std::move(last), *slot);
  return above_node(expr.where, std::move(part), std::move(last), *slot);
}

}  // namespace operculum::layout
