#pragma once

#include "base/depth_guard.h"
#include "layout/text/syntax.h"
#include "layout/text/token_reader.h"

namespace operculum::layout {

/// Parses expressions, transforms and types: what stands within a statement. Throws ProblemFound.
class ExpressionParser {
 public:
  explicit ExpressionParser(TokenReader& tokens) : tokens_(tokens) {}

  syntax::ExprPtr expression();
  syntax::TypePtr type();                           ///< with its modifiers, up to `at ... in ...`
  std::vector<syntax::Argument> arguments();        ///< the opening bracket was taken
  std::string plain_string(std::string_view what);  ///< a text without {...}

  static constexpr int kMaxDepth = 100;  // of expressions within each other
  static constexpr int kMaxChain = 500;  // of operations one behind another, as in 1 + 2 + 3
  static constexpr int kMaxLists = 16;   // of lists within each other

 private:
  syntax::ExprPtr pipe();
  syntax::ExprPtr conditional();
  syntax::ExprPtr binary(std::size_t level);
  syntax::ExprPtr comparison();
  syntax::ExprPtr unary();
  syntax::ExprPtr postfix();
  syntax::ExprPtr primary();
  syntax::ExprPtr word();
  syntax::ExprPtr call(const Span& begin, std::string name);
  syntax::ExprPtr over(const Span& begin, const std::string& name);
  syntax::Argument argument();
  syntax::ExprPtr string();
  syntax::ExprPtr form(const Token& token);
  syntax::TransformPtr transform();
  std::vector<std::pair<syntax::ExprPtr, syntax::TransformPtr>> choices(syntax::TransformPtr& otherwise);

  bool type_begins() const;
  void base_type(syntax::Type& type);
  void number_type(syntax::Type& type);
  void bits_type(syntax::Type& type);
  void text_type(syntax::Type& type);
  void bytes_type(syntax::Type& type);
  void run_length(syntax::Type& type);
  void modifiers(syntax::Type& type);
  void constraint(syntax::Type& type);
  syntax::TypePtr list_of(const Span& begin, syntax::TypePtr element);
  std::string run_of_bytes(std::string_view what);

  syntax::ExprPtr make(syntax::Expr::Kind kind, const Span& begin, std::string name,
                       std::vector<syntax::ExprPtr> parts) const;

  DepthGuard deeper();
  void measure(syntax::Expr& expr) const;  ///< sets its depth; throws ProblemFound

  TokenReader& tokens_;
  int depth_ = 0;
};

/// The text of a string token with its escapes replaced: \n \r \t \0 \e \\ \" \xNN \u{...}; "{{" and "}}"
/// stand for braces. Throws ProblemFound.
std::string unescaped(std::string_view raw, const Span& where);

}  // namespace operculum::layout
