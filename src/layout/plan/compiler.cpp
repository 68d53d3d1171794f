#include "layout/plan/compiler.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/sum_kinds.h"
#include "layout/plan/functions.h"
#include "layout/text/words.h"

namespace operculum::layout {

using Base = StaticType::Base;

namespace {

constexpr int kMaxFunctions = 60;  // that call each other

constexpr RoleKind kRoles[] = {{"path", &EntryPlan::path, Base::text},
                               {"data", &EntryPlan::data, Base::bytes},
                               {"size", &EntryPlan::size, Base::number},
                               {"time", &EntryPlan::time, Base::time},
                               {"created", &EntryPlan::created, Base::time},
                               {"accessed", &EntryPlan::accessed, Base::time},
                               {"mode", &EntryPlan::mode, Base::number},
                               {"crc32", &EntryPlan::crc32, Base::number},
                               {"comment", &EntryPlan::comment, Base::text},
                               {"kind", &EntryPlan::kind, Base::text},
                               {"folder", &EntryPlan::folder, Base::truth},
                               {"link", &EntryPlan::link, Base::text},
                               {"encrypted", &EntryPlan::encrypted, Base::truth},
                               {"also", &EntryPlan::also, Base::text}};

bool orders_while_reading(const std::vector<syntax::Field>& fields) {
  return std::any_of(fields.begin(), fields.end(), [](const syntax::Field& field) {
    return field.kind == syntax::Field::Kind::order || orders_while_reading(field.fields) ||
           orders_while_reading(field.otherwise);
  });
}

}  // namespace

std::span<const RoleKind> role_kinds() {
  return kRoles;
}

Compiler::Compiler(Plan& plan, const syntax::Layout& layout, std::vector<Problem>& problems)
    : plan_(plan), layout_(layout), problems_(problems) {}

void Compiler::fail(const Span& where, const std::string& text, const std::string& hint) {
  throw ProblemFound{{Problem::Level::error, where, text, hint}};
}

/// An error that follows from one that was told has no text.
void Compiler::fail_quietly() {
  throw ProblemFound{};
}

void Compiler::note(const ProblemFound& found) {
  if (!found.problem.text.empty()) problems_.push_back(found.problem);
}

void Compiler::warn(const Span& where, const std::string& text, const std::string& hint) {
  problems_.push_back({Problem::Level::warning, where, text, hint});
}

void Compiler::run() {
  plan_.title = layout_.title;
  plan_.about = layout_.about;
  plan_.suffixes = layout_.suffixes;
  plan_.names_file = layout_.names_file;
  index_names();
  for (const syntax::Statement& one : layout_.statements) {
    try {
      statement(one);
    } catch (const ProblemFound& found) {
      note(found);
      if (one.kind == syntax::Statement::Kind::binding) broken_.insert(one.name);
    }
    later_globals_.erase(one.name);
  }
  compile_unused();
  bool entries =
      std::any_of(layout_.statements.begin(), layout_.statements.end(),
                  [](const syntax::Statement& one) { return one.kind == syntax::Statement::Kind::entry; });
  if (!entries && problems_.empty())
    warn(layout_.where, "there is no entry rule, so nothing will be listed",
         "entry for item in items { path = ... data = ... }");
  gather_magic();
}

void Compiler::index_names() {
  auto twice = [&](const std::string& name, const Span& where) {
    problems_.push_back({Problem::Level::error, where, fmt::format("\"{}\" is defined twice", name), ""});
  };
  for (const syntax::Record& record : layout_.records) {
    if (!record_syntax_.emplace(record.name, &record).second) twice(record.name, record.where);
  }
  for (const syntax::Function& function : layout_.functions) {
    if (find_function(function.name) != nullptr || contains(list_words(), function.name))
      problems_.push_back({Problem::Level::error, function.where,
                           fmt::format("the language has a function \"{}\" of its own", function.name),
                           "choose another name"});
    if (!function_syntax_.emplace(function.name, &function).second) twice(function.name, function.where);
  }
  bool dynamic =
      std::any_of(layout_.records.begin(), layout_.records.end(),
                  [](const syntax::Record& record) { return orders_while_reading(record.fields); });
  for (const syntax::Statement& one : layout_.statements) {
    if (one.kind == syntax::Statement::Kind::binding) {
      if (!later_globals_.emplace(one.name, one.where).second) twice(one.name, one.where);
    }
    if (one.kind != syntax::Statement::Kind::order) continue;
    if (one.value) {
      dynamic = true;
    } else {
      big_ = one.big;
    }
  }
  if (dynamic) big_.reset();
}

void Compiler::statement(const syntax::Statement& from) {
  StatementPlan made{.kind = StatementPlan::Kind::binding, .where = from.where};
  made.name = from.name;
  made.message = from.message;
  Scope scope;
  switch (from.kind) {
    case syntax::Statement::Kind::binding:
      binding(from, made, scope);
      break;
    case syntax::Statement::Kind::require:
    case syntax::Statement::Kind::expect:
      made.kind = from.kind == syntax::Statement::Kind::require ? StatementPlan::Kind::require
                                                                : StatementPlan::Kind::expect;
      made.value = condition(*from.value, scope);
      break;
    case syntax::Statement::Kind::fact:
      made.kind = StatementPlan::Kind::fact;
      made.value = expression(*from.value, scope);
      if (!made.value->type().numeric() && !made.value->type().is(Base::text) &&
          !made.value->type().is(Base::time))
        fail(from.value->where,
             fmt::format("a fact is a text, a number or a time; this is {}", made.value->type().name()));
      break;
    case syntax::Statement::Kind::region:
      made.kind = StatementPlan::Kind::region;
      made.value = of_base(*from.value, scope, Base::bytes);
      break;
    case syntax::Statement::Kind::check:
      made.kind = StatementPlan::Kind::check;
      made.check = check(from.check, scope);
      break;
    case syntax::Statement::Kind::order:
      made.kind = StatementPlan::Kind::order;
      made.big = from.big;
      made.other_order = from.other_order;
      if (from.value) made.value = condition(*from.value, scope);
      break;
    case syntax::Statement::Kind::entry:
      made.kind = StatementPlan::Kind::entry;
      made.entry = plan_.entries.size();
      entry(from.entry);
      break;
  }
  made.slots = scope.most;
  plan_.statements.push_back(std::move(made));
}

void Compiler::binding(const syntax::Statement& from, StatementPlan& to, Scope& scope) {
  if (find_function(from.name) != nullptr || function_syntax_.contains(from.name))
    fail(from.where, fmt::format("\"{}\" is a function; choose another name", from.name));
  to.value = expression(*from.value, scope);
  to.global = plan_.globals.size();
  plan_.globals.push_back(from.name);
  plan_.global_types.push_back(to.value->type());
  globals_[from.name] = to.global;
}

void Compiler::entry(const syntax::EntryRule& from) {
  plan_.entries.emplace_back();
  EntryPlan& made = plan_.entries.back();
  made.where = from.where;
  Scope scope;
  for (const syntax::Loop& loop : from.loops) {
    EntryPlan::Loop one;
    one.list = expression(*loop.list, scope);
    if (!one.list->type().is_list()) {
      fail(loop.list->where,
           fmt::format("an entry rule goes through a list; this is {}", one.list->type().name()),
           "a single entry needs no \"for\"");
    }
    one.slot = scope.take(3);
    scope.variables.push_back({loop.variable, one.list->type().element(), one.slot, nullptr, true});
    if (!loop.number_variable.empty()) {
      one.number_slot = scope.take();
      scope.variables.push_back({loop.number_variable, {Base::number}, *one.number_slot});
    }
    made.loops.push_back(std::move(one));
  }
  for (const auto& [name, value] : from.lets) {
    NodePtr node = expression(*value, scope);
    scope.next = scope.most;  // it is evaluated amid other expressions: nothing may share its slots
    std::size_t slot = scope.take();
    scope.variables.push_back({.name = name, .type = node->type(), .slot = slot, .lazy = node.get()});
    made.lets.emplace_back(slot, std::move(node));
  }
  if (from.condition) made.condition = condition(*from.condition, scope);
  for (const syntax::Role& one : from.roles) {
    try {
      role(one, made, scope);
    } catch (const ProblemFound& found) {
      note(found);
    }
  }
  for (const syntax::Check& one : from.checks) made.checks.push_back(check(one, scope));
  made.slots = scope.most;
  if (made.path == nullptr && problems_.empty())
    fail(from.where, "this entry has no path",
         "path = item.name, or path = \"{n:04}{ending(...)}\" where nothing is stored");
  if (made.data == nullptr && made.folder == nullptr && made.link == nullptr && problems_.empty())
    fail(from.where, "this entry has no data",
         "data = bytes(item.at, item.size); a folder has folder = ..., a link has link = ...");
}

void Compiler::role(const syntax::Role& from, EntryPlan& to, Scope& scope) {
  for (const RoleKind& kind : kRoles) {
    if (kind.name != from.name) continue;
    if (to.*kind.member != nullptr) fail(from.where, fmt::format("\"{}\" is given twice", from.name));
    bool nothing = from.value->kind == syntax::Expr::Kind::name && from.value->name == "nothing";
    if (nothing && kind.member != &EntryPlan::path) return;  // as if it were not stated
    if (kind.base == Base::truth) {
      to.*kind.member = condition(*from.value, scope);
    } else if (kind.base == Base::number) {
      to.*kind.member = number(*from.value, scope);
    } else if (kind.member == &EntryPlan::also) {
      to.also = other_paths(*from.value, scope);
    } else {
      to.*kind.member = of_base(*from.value, scope, kind.base);
    }
  }
}

/// A list of texts; one text stands for a list of it.
NodePtr Compiler::other_paths(const syntax::Expr& expr, Scope& scope) {
  NodePtr paths = expression(expr, scope);
  if (paths->type().is(Base::text)) {
    std::vector<NodePtr> one;
    StaticType list = paths->type().list();
    one.push_back(std::move(paths));
    return list_node(expr.where, list, std::move(one));
  }
  if (!paths->type().is_list() || !paths->type().element().is(Base::text))
    fail(expr.where, fmt::format("expected a text or a list of texts, found {}", paths->type().name()));
  return paths;
}

CheckPlan Compiler::check(const syntax::Check& from, Scope& scope) {
  CheckPlan made;
  made.where = from.where;
  made.algorithm = from.algorithm;
  const SumKind* kind = find_sum(from.algorithm);
  if (kind == nullptr) {
    std::string all;
    for (const SumKind& one : sum_kinds()) all += fmt::format("{}{}", all.empty() ? "" : ", ", one.name);
    fail(from.where, fmt::format("there is no checksum \"{}\"", from.algorithm), all);
  }
  for (const syntax::Argument& argument : from.arguments) {
    auto constant = number(*argument.value, scope)->constant();
    if (!constant || made.parameters.size() == kind->parameters)
      fail(argument.where, kind->parameters == 0
                               ? fmt::format("{} takes no parameters", from.algorithm)
                               : "expected up to four constants: polynomial, start, final, reflected");
    made.parameters.push_back(*constant);
  }
  if (from.of_role.empty()) {
    made.what = of_base(*from.of, scope, Base::bytes);
  } else {
    made.of = from.of_role == "data" ? CheckPlan::Of::data : CheckPlan::Of::stored;
  }
  made.expected = kind->number ? number(*from.expected, scope) : of_base(*from.expected, scope, Base::bytes);
  return made;
}

StaticType Compiler::type_named(const std::string& name, const Span& where, Base otherwise) {
  if (name.empty()) return {otherwise};
  struct Named {
    std::string_view name;
    Base base;
  };
  constexpr Named kNames[] = {{"number", Base::number},
                              {"condition", Base::truth},
                              {"text", Base::text},
                              {"bytes", Base::bytes},
                              {"time", Base::time}};
  for (const Named& one : kNames) {
    if (one.name == name) return {one.base};
  }
  if (record_syntax_.contains(name)) return {Base::record, &record(name, where)};
  fail(where, fmt::format("\"{}\" is no kind of value", name),
       "kinds are number, condition, text, bytes, time, and the names of records");
}

void Compiler::parameters(const std::vector<syntax::Parameter>& from, Scope& scope,
                          std::vector<StaticType>& types) {
  for (const syntax::Parameter& one : from) {
    StaticType type = type_named(one.type, one.where, Base::number);
    types.push_back(type);
    scope.variables.push_back({one.name, type, scope.take()});
  }
}

const FunctionPlan& Compiler::function(const std::string& name, const Span& where) {
  auto known = functions_.find(name);
  const syntax::Function& from = *function_syntax_.at(name);
  if (known != functions_.end()) {
    FunctionPlan& plan = *known->second;
    if (broken_.contains(name)) fail_quietly();
    if (plan.body == nullptr && plan.result.base == Base::unknown)
      fail(where, fmt::format("\"{}\" calls itself, so it must say what it gives", name),
           fmt::format("define {}(...): text = ...", name));
    return plan;
  }
  if (++depth_ > kMaxFunctions) fail(where, "too many functions call each other");
  plan_.functions.push_back(std::make_unique<FunctionPlan>());
  FunctionPlan& plan = *plan_.functions.back();
  functions_[name] = &plan;
  plan.name = name;
  plan.where = from.where;
  try {
    function_body(from, plan);
  } catch (const ProblemFound&) {
    broken_.insert(name);
    --depth_;
    throw;
  }
  --depth_;
  return plan;
}

void Compiler::function_body(const syntax::Function& from, FunctionPlan& plan) {
  Scope scope;
  parameters(from.parameters, scope, plan.parameters);
  if (!from.result.empty()) plan.result = type_named(from.result, from.where, Base::number);
  NodePtr body = expression(*from.body, scope);
  if (plan.result.base != Base::unknown && !body->type().fits(plan.result))
    fail(from.body->where, fmt::format("this gives {}, not {}", body->type().name(), plan.result.name()));
  if (plan.result.base == Base::unknown) plan.result = body->type();
  plan.slots = scope.most;
  plan.body = std::move(body);
}

/// What nothing uses is still checked, and told.
void Compiler::compile_unused() {
  bool told = !problems_.empty();  // what is wrong elsewhere may be why it is not used
  auto unused = [&](const std::string& name, const Span& where) {
    if (!told) warn(where, fmt::format("\"{}\" is never used", name));
  };
  for (const auto& [name, syntax] : record_syntax_) {
    if (records_.contains(name)) continue;
    unused(name, syntax->where);
    try {
      record(name, syntax->where);
    } catch (const ProblemFound& found) {
      note(found);
    }
  }
  for (const auto& [name, syntax] : function_syntax_) {
    if (functions_.contains(name)) continue;
    unused(name, syntax->where);
    try {
      function(name, syntax->where);
    } catch (const ProblemFound& found) {
      note(found);
    }
  }
}

/// The constants at the front of records that are read at a constant place.
void Compiler::gather_magic() {
  for (const StatementPlan& statement : plan_.statements) {
    if (statement.value == nullptr) continue;
    auto* placed = dynamic_cast<const PlacedRead*>(plan_of_read(*statement.value));
    if (placed == nullptr || placed->in != nullptr) continue;
    MagicPart where;
    if (auto at = placed->at->constant(); at && *at >= 0) {
      where.offset = static_cast<std::uint64_t>(*at);
    } else if (auto back = distance_from_end(*placed->at); back && *back > 0) {
      where.from_end = plan_.looks_at_end = true;
      where.offset = static_cast<std::uint64_t>(*back);
    } else {
      continue;
    }
    auto add = [&](const ReadPlan& plan, std::uint64_t offset) {
      MagicPart part = where;
      part.offset = where.from_end ? where.offset - std::min(where.offset, offset) : where.offset + offset;
      if (auto* bytes = dynamic_cast<const BytesPlan*>(&plan)) {
        if (bytes->constant) part.bytes = *bytes->constant;
      } else if (auto* number = dynamic_cast<const NumberPlan*>(&plan);
                 number != nullptr && number->allowed.size() == 1 && number->steps.empty() &&
                 number->form == NumberPlan::Form::fixed && number->big) {
        if (auto value = number->allowed[0]->constant()) {
          for (unsigned i = 0; i < number->bytes; ++i)
            part.bytes += static_cast<char>(static_cast<std::uint64_t>(*value) >>
                                            (8 * (*number->big ? number->bytes - 1 - i : i)));
        }
      }
      if (!part.bytes.empty()) plan_.magic.push_back(std::move(part));
    };
    if (auto* record = dynamic_cast<const RecordRead*>(placed->inner.get())) {
      for (const FieldPlan& field : record->record.fields) {
        if (field.read != nullptr && field.offset) add(*field.read, *field.offset);
      }
    } else {
      add(*placed->inner, 0);
    }
  }
}

}  // namespace operculum::layout
