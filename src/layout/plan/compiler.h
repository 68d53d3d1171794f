#pragma once

#include <map>
#include <set>

#include "layout/plan/nodes.h"
#include "layout/plan/scope.h"
#include "layout/text/syntax.h"

namespace operculum::layout {

/// Makes a plan of a description: looks up names, checks types, decides what is of fixed size. Records and
/// functions are compiled when they are first used, so that they see just what is known by then.
class Compiler {
 public:
  Compiler(Plan& plan, const syntax::Layout& layout, std::vector<Problem>& problems);
  void run();

  // expressions: compile_expression.cpp
  NodePtr expression(const syntax::Expr& expr, Scope& scope);
  NodePtr number(const syntax::Expr& expr, Scope& scope);  ///< a number or a condition
  NodePtr condition(const syntax::Expr& expr, Scope& scope);
  NodePtr of_base(const syntax::Expr& expr, Scope& scope, StaticType::Base base);

  // codecs and ciphers: compile_chain.cpp
  std::unique_ptr<const ChainPlan> chain(const syntax::Transform& transform, Scope& scope);

  // types and records: compile_type.cpp, compile_record.cpp
  ReadPlanPtr read(const syntax::Type& type, Scope& scope);
  const RecordPlan& record(const std::string& name, const Span& where);

  const FunctionPlan& function(const std::string& name, const Span& where);
  void function_body(const syntax::Function& from, FunctionPlan& plan);

  [[noreturn]] static void fail(const Span& where, const std::string& text, const std::string& hint = "");
  void warn(const Span& where, const std::string& text, const std::string& hint = "");

 private:
  friend class RecordCompiler;
  void index_names();
  void statement(const syntax::Statement& statement);
  void binding(const syntax::Statement& from, StatementPlan& to, Scope& scope);
  void entry(const syntax::EntryRule& from);
  void role(const syntax::Role& from, EntryPlan& to, Scope& scope);
  NodePtr other_paths(const syntax::Expr& expr, Scope& scope);
  CheckPlan check(const syntax::Check& from, Scope& scope);
  void compile_unused();
  void gather_magic();
  StaticType type_named(const std::string& name, const Span& where, StaticType::Base otherwise);
  void parameters(const std::vector<syntax::Parameter>& from, Scope& scope, std::vector<StaticType>& types);

  NodePtr name(const syntax::Expr& expr, Scope& scope);
  NodePtr field(const syntax::Expr& expr, Scope& scope);
  NodePtr form(const syntax::Expr& expr, Scope& scope);
  NodePtr binary(const syntax::Expr& expr, Scope& scope);
  NodePtr one_of(const syntax::Expr& expr, Scope& scope);
  NodePtr conditional(const syntax::Expr& expr, Scope& scope);
  NodePtr fallback(const syntax::Expr& expr, Scope& scope);
  void same_types(const Node& a, const Node& b, const Span& where);

  // lists, and what goes through them: compile_list.cpp
  NodePtr slice(const syntax::Expr& expr, Scope& scope);
  NodePtr list(const syntax::Expr& expr, Scope& scope);
  NodePtr over(const syntax::Expr& expr, Scope& scope);
  NodePtr fold(const syntax::Expr& expr, Scope& scope);
  /// What is gone through: a list, or bytes as a list of numbers.
  NodePtr elements(const syntax::Expr& expr, Scope& scope, std::string_view who);
  /// Finds how elements can be looked up, where the condition is an equality; `first` is that of the scope's
  /// equalities that was compiled with it first.
  static void look_up(const syntax::Expr& condition, std::size_t first, const Scope& scope, Each& each);
  NodePtr chain_of_links(const syntax::Expr& expr, Scope& scope);
  NodePtr tree(const syntax::Expr& expr, Scope& scope);

  // calls: compile_call.cpp
  struct SpecialCalls;
  NodePtr call(const syntax::Expr& expr, Scope& scope);
  NodePtr own_call(const syntax::Expr& expr, Scope& scope);
  std::vector<NodePtr> positional(const syntax::Expr& expr, Scope& scope, std::string_view takes);

  void note(const ProblemFound& found);
  [[noreturn]] static void fail_quietly();
  [[noreturn]] void unknown_name(const std::string& name, const Span& where, const Scope& scope);

  ReadPlanPtr base_read(const syntax::Type& type, Scope& scope);
  ReadPlanPtr number_read(const syntax::Type& type, Scope& scope);
  ReadPlanPtr text_read(const syntax::Type& type, Scope& scope);
  ReadPlanPtr bytes_read(const syntax::Type& type, Scope& scope);
  ReadPlanPtr record_read(const syntax::Type& type, Scope& scope);
  ReadPlanPtr list_read(const syntax::Type& type, Scope& scope);
  template <typename Plan>
  void run_length(const syntax::Type& type, Scope& scope, Plan& plan);

  Plan& plan_;
  const syntax::Layout& layout_;
  std::vector<Problem>& problems_;
  std::optional<bool> big_ = false;  ///< numbers that state no order; empty: decided while reading
  std::map<std::string, const syntax::Record*> record_syntax_;
  std::map<std::string, RecordPlan*> records_;
  std::map<std::string, const syntax::Function*> function_syntax_;
  std::map<std::string, FunctionPlan*> functions_;
  std::map<std::string, std::size_t> globals_;
  std::map<std::string, Span> later_globals_;  ///< bound further down
  std::set<std::string> broken_;  ///< names whose definition has an error: what uses them is not told again
  int depth_ = 0;
};

}  // namespace operculum::layout
