#include "layout/text/expression_parser.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"
#include "layout/text/words.h"

namespace operculum::layout {

using namespace syntax;

namespace {

/// Binary operators, loosest first; comparisons stand between the second and the third level.
constexpr std::array<std::array<std::string_view, 3>, 7> kLevels = {
    {{"or"}, {"and"}, {"bitor", "xor"}, {"bitand"}, {"<<", ">>"}, {"+", "-"}, {"*", "/", "%"}}};
constexpr std::size_t kAboveComparison = 2;
constexpr std::string_view kComparisons[] = {"==", "!=", "<=", ">=", "<", ">"};
constexpr std::string_view kWithBody[] = {"sum", "least", "most", "fold", "scan"};
constexpr std::string_view kMayHaveBody[] = {"each", "join"};

Expr::Kind kind_of_list_word(std::string_view name) {
  constexpr std::pair<std::string_view, Expr::Kind> kOwn[] = {{"chain", Expr::Kind::chain},
                                                              {"tree", Expr::Kind::tree},
                                                              {"fold", Expr::Kind::fold},
                                                              {"scan", Expr::Kind::fold}};
  for (const auto& [word, kind] : kOwn)
    if (word == name) return kind;
  return Expr::Kind::over;
}

/// The last character of the escape that begins at a backslash; the braces of \u{e9} are its own.
std::size_t end_of_escape(std::string_view raw, std::size_t backslash) {
  std::size_t close = raw.substr(backslash, 3) == "\\u{" ? raw.find('}', backslash) : std::string_view::npos;
  return close == std::string_view::npos ? backslash + 1 : close;
}

/// Where what belongs to the brace at `open` ends: behind its closing brace, or where the text does.
std::size_t closing_brace(std::string_view raw, std::size_t open) {
  int braces = 0;
  for (std::size_t i = open; i < raw.size(); ++i) {
    braces += raw[i] == '{' ? 1 : raw[i] == '}' ? -1 : 0;
    if (braces == 0) return i + 1;
  }
  return raw.size();
}

}  // namespace

ExprPtr ExpressionParser::make(Expr::Kind kind, const Span& begin, std::string name,
                               std::vector<ExprPtr> parts) const {
  auto expr = std::make_shared<Expr>();
  expr->kind = kind;
  expr->where = tokens_.from(begin);
  expr->name = std::move(name);
  expr->parts = std::move(parts);
  measure(*expr);
  return expr;
}

void ExpressionParser::measure(Expr& expr) const {
  for (const ExprPtr& part : expr.parts) expr.depth = std::max(expr.depth, part->depth + 1);
  if (expr.depth > kMaxChain)
    throw ProblemFound{{Problem::Level::error, expr.where,
                        fmt::format("more than {} operations hang on one another here", kMaxChain),
                        "give a part of it a name of its own: let half = ..."}};
}

DepthGuard ExpressionParser::deeper() {
  return {depth_, kMaxDepth, [this] { tokens_.fail("this expression is nested too deeply"); }};
}

ExprPtr ExpressionParser::expression() {
  DepthGuard guard = deeper();
  Span begin = tokens_.peek().where;
  ExprPtr left = pipe();
  if (tokens_.accept("else")) left = make(Expr::Kind::fallback, begin, "else", {left, expression()});
  return left;
}

ExprPtr ExpressionParser::pipe() {
  Span begin = tokens_.peek().where;
  ExprPtr left = conditional();
  for (;;) {
    // a line that begins with '|' goes on with the one before it
    std::size_t ahead = 0;
    while (tokens_.peek(ahead).kind == Token::Kind::line_end) ++ahead;
    if (!tokens_.peek(ahead).is("|")) return left;
    while (!tokens_.accept("|")) tokens_.take();
    tokens_.skip_line_ends();
    auto piped = std::make_shared<Expr>();
    piped->kind = Expr::Kind::pipe;
    piped->parts = {left};
    piped->transform = transform();
    piped->where = tokens_.from(begin);
    measure(*piped);
    left = piped;
  }
}

ExprPtr ExpressionParser::conditional() {
  if (!tokens_.is("if")) return binary(0);
  DepthGuard guard = deeper();
  Span begin = tokens_.take().where;
  ExprPtr condition = binary(0);
  tokens_.skip_line_ends();
  tokens_.expect("then");
  tokens_.skip_line_ends();
  ExprPtr then = pipe();
  tokens_.skip_line_ends();
  tokens_.expect("else");
  tokens_.skip_line_ends();
  ExprPtr otherwise = expression();
  return make(Expr::Kind::conditional, begin, "if", {condition, then, otherwise});
}

ExprPtr ExpressionParser::binary(std::size_t level) {
  if (level == kLevels.size()) return unary();
  Span begin = tokens_.peek().where;
  auto operand = [&] { return level + 1 == kAboveComparison ? comparison() : binary(level + 1); };
  ExprPtr left = operand();
  for (;;) {
    std::string_view found;
    for (std::string_view symbol : kLevels[level]) {
      if (!symbol.empty() && tokens_.is(symbol)) found = symbol;
    }
    if (found.empty()) return left;
    tokens_.take();
    tokens_.skip_line_ends();
    left = make(Expr::Kind::binary, begin, std::string(found), {left, operand()});
  }
}

ExprPtr ExpressionParser::comparison() {
  Span begin = tokens_.peek().where;
  if (tokens_.accept("not")) {
    DepthGuard guard = deeper();
    return make(Expr::Kind::unary, begin, "not", {comparison()});
  }
  ExprPtr left = binary(kAboveComparison);
  for (std::string_view symbol : kComparisons) {
    if (!tokens_.is(symbol)) continue;
    tokens_.take();
    tokens_.skip_line_ends();
    return make(Expr::Kind::binary, begin, std::string(symbol), {left, binary(kAboveComparison)});
  }
  if (!tokens_.accept("in")) return left;
  if (tokens_.accept("{")) {
    TokenReader::Brackets within(tokens_);
    std::vector<ExprPtr> parts = {left};
    while (!tokens_.accept("}")) {
      parts.push_back(binary(kAboveComparison));
      if (!tokens_.is("}")) tokens_.expect(",");
    }
    return make(Expr::Kind::one_of, begin, "in", parts);
  }
  ExprPtr low = binary(kAboveComparison);
  tokens_.expect("..");
  return make(Expr::Kind::between, begin, "in", {left, low, binary(kAboveComparison)});
}

ExprPtr ExpressionParser::unary() {
  Span begin = tokens_.peek().where;
  for (std::string_view symbol : {"-", "~"}) {
    if (!tokens_.accept(symbol)) continue;
    DepthGuard guard = deeper();
    ExprPtr operand = unary();
    return make(Expr::Kind::unary, begin, std::string(symbol), {operand});
  }
  return postfix();
}

ExprPtr ExpressionParser::postfix() {
  Span begin = tokens_.peek().where;
  ExprPtr left = primary();
  for (;;) {
    if (tokens_.accept(".")) {
      std::string name = tokens_.expect_word("the name of a field");
      left = make(Expr::Kind::field, begin, std::move(name), {left});
    } else if (tokens_.is("[")) {
      TokenReader::Brackets within(tokens_);
      tokens_.take();
      ExprPtr index = expression();
      if (tokens_.accept("..")) {
        ExprPtr to = expression();
        left = make(Expr::Kind::slice, begin, "[..]", {left, index, to});
      } else {
        left = make(Expr::Kind::element, begin, "[]", {left, index});
      }
      tokens_.expect("]");
    } else {
      return left;
    }
  }
}

ExprPtr ExpressionParser::primary() {
  const Token& token = tokens_.peek();
  Span begin = token.where;
  switch (token.kind) {
    case Token::Kind::number: {
      auto expr = std::make_shared<Expr>();
      expr->kind = Expr::Kind::number;
      expr->number = tokens_.take().number;
      expr->where = begin;
      return expr;
    }
    case Token::Kind::string:
      return string();
    case Token::Kind::word:
      return word();
    default:
      break;
  }
  if (tokens_.is("(")) {
    TokenReader::Brackets within(tokens_);
    tokens_.take();
    ExprPtr inner = expression();
    tokens_.expect(")");
    return inner;
  }
  if (tokens_.is("[")) {
    TokenReader::Brackets within(tokens_);
    tokens_.take();
    std::vector<ExprPtr> parts;
    while (!tokens_.accept("]")) {
      parts.push_back(expression());
      if (!tokens_.is("]")) tokens_.expect(",");
    }
    return make(Expr::Kind::list, begin, "[]", parts);
  }
  tokens_.fail("expected a value", "a value is a number, a text in quotes, a name, or something in brackets");
}

bool ExpressionParser::type_begins() const {
  const Token& token = tokens_.peek();
  if (token.kind != Token::Kind::word) return false;
  if (token.text[0] >= 'A' && token.text[0] <= 'Z') return true;
  const Token& next = tokens_.peek(1);
  if (token.is("text"))
    return next.is("[") || next.is("until") || next.is("sized") || next.is("to") || next.is("word");
  if (token.is("bytes")) return next.is("[") || next.is("until") || next.is("sized") || next.is("to");
  if (token.is("bits")) return true;
  return contains(number_types(), token.text) && !next.is("(");
}

ExprPtr ExpressionParser::word() {
  Span begin = tokens_.peek().where;
  if (type_begins()) {
    auto read = std::make_shared<Expr>();
    read->kind = Expr::Kind::read;
    read->type = type();
    read->where = tokens_.from(begin);
    if (!read->type->at) {
      throw ProblemFound{{Problem::Level::error, read->where, "this does not say where it is read",
                          "write where it begins: Header at 0, u32 at here + 4"}};
    }
    return read;
  }
  std::string name(tokens_.take().text);
  if (name == "hex" && tokens_.peek().kind == Token::Kind::string) {
    Token digits = tokens_.take();
    std::string raw;
    for (char c : digits.text) {
      if (c != ' ') raw += c;
    }
    std::string bytes;
    for (std::size_t i = 0; i < raw.size(); i += 2) {
      auto value = raw.size() % 2 == 0 ? parse_number(raw.substr(i, 2), 16) : std::nullopt;
      if (!value)
        throw ProblemFound{{Problem::Level::error, digits.where, "expected pairs of hexadecimal digits",
                            "for example hex \"53 48 4f 41\""}};
      bytes += static_cast<char>(*value);
    }
    return make(Expr::Kind::bytes, begin, bytes, {});
  }
  if (!tokens_.is("(")) return make(Expr::Kind::name, begin, name, {});
  TokenReader::Brackets within(tokens_);
  tokens_.take();
  return contains(list_words(), name) ? over(begin, name) : call(begin, std::move(name));
}

Argument ExpressionParser::argument() {
  Argument made;
  made.where = tokens_.peek().where;
  if (tokens_.peek().kind == Token::Kind::word && tokens_.peek(1).is("=")) {
    made.name = tokens_.take().text;
    tokens_.take();
  }
  made.value = expression();
  made.where = tokens_.from(made.where);
  return made;
}

std::vector<Argument> ExpressionParser::arguments() {
  std::vector<Argument> all;
  while (!tokens_.accept(")")) {
    all.push_back(argument());
    if (!tokens_.is(")")) tokens_.expect(",");
  }
  return all;
}

ExprPtr ExpressionParser::call(const Span& begin, std::string name) {
  auto expr = std::make_shared<Expr>();
  expr->kind = Expr::Kind::call;
  expr->name = std::move(name);
  while (!tokens_.accept(")")) {
    if (tokens_.peek().kind == Token::Kind::word &&
        tokens_.peek(1).is("where")) {  // key("name", k where ...)
      expr->variable = tokens_.take().text;
      tokens_.take();
      expr->condition = expression();
      tokens_.expect(")");
      break;
    }
    expr->arguments.push_back(argument());
    if (!tokens_.is(")")) tokens_.expect(",");
  }
  expr->where = tokens_.from(begin);
  return expr;
}

/// first(x in LIST where C), sum(x in LIST: E), fold(s from A, x in LIST: E), chain(x from A while C then B),
/// tree(x in LIST by LIST)
ExprPtr ExpressionParser::over(const Span& begin, const std::string& name) {
  auto expr = std::make_shared<Expr>();
  expr->name = name;
  expr->kind = kind_of_list_word(name);
  if (name == "count" && !(tokens_.peek().kind == Token::Kind::word && tokens_.peek(1).is("in"))) {
    expr->parts = {expression()};
    tokens_.expect(")");
    expr->where = tokens_.from(begin);
    return expr;
  }
  ExprPtr start;
  if (expr->kind == Expr::Kind::fold) {
    expr->carried = tokens_.expect_word("a name for what is carried along");
    tokens_.expect("from");
    start = expression();
    tokens_.expect(",");
  }
  expr->variable = tokens_.expect_word("a name for the thing looked at");
  if (tokens_.accept("number")) expr->number_variable = tokens_.expect_word("a name for its number");
  if (expr->kind == Expr::Kind::chain) {
    tokens_.expect("from");
    expr->parts = {expression()};
    tokens_.expect("while");
    expr->condition = expression();
    tokens_.expect("then");
    expr->body = expression();
  } else {
    tokens_.expect("in");
    expr->parts = {pipe()};
    if (start) expr->parts.push_back(start);
    if (expr->kind == Expr::Kind::tree) {
      tokens_.expect("by");
      expr->body = expression();
    } else {
      if (expr->kind == Expr::Kind::over && tokens_.accept("where")) expr->condition = expression();
      if (tokens_.accept(":")) expr->body = expression();
    }
  }
  bool needs_body = contains(kWithBody, name);
  if (needs_body && !expr->body)
    tokens_.fail(fmt::format("expected \":\" and what {} takes of each", name),
                 "for example sum(x in items: x.size)");
  if (expr->kind == Expr::Kind::over && expr->body && !needs_body && !contains(kMayHaveBody, name))
    throw ProblemFound{{Problem::Level::error, expr->body->where,
                        fmt::format("{} takes no value of each, only a condition behind \"where\"", name),
                        ""}};
  tokens_.expect(")");
  expr->where = tokens_.from(begin);
  return expr;
}

ExprPtr ExpressionParser::string() {
  Token token = tokens_.take();
  bool plain = true;
  for (std::size_t i = 0; i < token.text.size(); ++i) {
    if (token.text[i] == '\\')
      i = end_of_escape(token.text, i);
    else if (token.text[i] == '{' && token.text.substr(i, 2) == "{{")
      ++i;
    else if (token.text[i] == '{')
      plain = false;
  }
  if (!plain) return form(token);
  auto expr = std::make_shared<Expr>();
  expr->kind = Expr::Kind::text;
  expr->where = token.where;
  expr->name = unescaped(token.text, token.where);
  return expr;
}

/// "{name}.{number:03}"
ExprPtr ExpressionParser::form(const Token& token) {
  auto expr = std::make_shared<Expr>();
  expr->kind = Expr::Kind::form;
  expr->where = token.where;
  std::string_view raw = token.text;
  std::size_t literal = 0;
  for (std::size_t i = 0; i < raw.size(); ++i) {
    if (raw[i] == '\\') {
      i = end_of_escape(raw, i);
      continue;
    }
    if (raw.substr(i, 2) == "{{" || raw.substr(i, 2) == "}}") {
      ++i;
      continue;
    }
    if (raw[i] != '{') continue;
    expr->texts.push_back(unescaped(raw.substr(literal, i - literal), token.where));
    std::vector<Problem> problems;
    std::string_view until_quote =
        tokens_.text().substr(0, token.where.at + closing_brace(raw, i));  // no part is looked at twice
    TokenReader inner(until_quote, tokens_of(until_quote, problems, token.where.at + i + 1));
    ExpressionParser parser(inner);
    parser.depth_ = depth_ + 1;
    expr->parts.push_back(parser.expression());
    for (const Problem& problem : problems) {  // what follows the expression is no part of it
      if (problem.where.at < inner.peek().where.at) throw ProblemFound{problem};
    }
    std::string shows;
    std::size_t close = inner.peek().where.at;
    if (inner.is(":")) {
      std::size_t begin = close + 1;
      close = until_quote.find('}', begin);
      if (close != std::string_view::npos) shows = until_quote.substr(begin, close - begin);
    } else if (!inner.is("}")) {
      close = std::string_view::npos;
    }
    if (close == std::string_view::npos)
      throw ProblemFound{{Problem::Level::error,
                          {token.where.at + i, token.where.length - i},
                          "this \"{\" has no \"}\"",
                          "a brace that is meant as itself is written twice: {{"}};
    expr->shows.push_back(std::move(shows));
    i = close - token.where.at;
    literal = i + 1;
  }
  expr->texts.push_back(unescaped(raw.substr(literal), token.where));
  return expr;
}

TransformPtr ExpressionParser::transform() {
  DepthGuard guard = deeper();
  auto made = std::make_shared<Transform>();
  Span begin = tokens_.peek().where;
  if (tokens_.accept("when")) {
    made->kind = Transform::Kind::when;
    made->condition = binary(0);
    tokens_.expect(":");
    made->then = transform();
    if (tokens_.accept("else")) made->otherwise = transform();
  } else if (tokens_.accept("choose")) {
    made->kind = Transform::Kind::choose;
    made->condition = binary(0);
    made->choices = choices(made->otherwise);
  } else {
    made->kind = Transform::Kind::call;
    made->name = tokens_.expect_word("the name of a codec or a cipher");
    if (tokens_.is("(")) {
      TokenReader::Brackets within(tokens_);
      tokens_.take();
      made->arguments = arguments();
    }
  }
  made->where = tokens_.from(begin);
  return made;
}

std::vector<std::pair<ExprPtr, TransformPtr>> ExpressionParser::choices(TransformPtr& otherwise) {
  std::vector<std::pair<ExprPtr, TransformPtr>> all;
  TokenReader::Braces within(tokens_);
  tokens_.expect("{");
  tokens_.skip_line_ends();
  while (!tokens_.accept("}")) {
    ExprPtr value;
    if (!tokens_.accept("else")) value = binary(kAboveComparison);
    tokens_.expect(":");
    TransformPtr then = transform();
    if (value) {
      all.emplace_back(value, then);
    } else {
      otherwise = then;
    }
    if (!tokens_.accept(",") && !tokens_.is("}") && !tokens_.at_line_end())
      tokens_.fail("expected \",\" or a new line");
    tokens_.skip_line_ends();
  }
  return all;
}

std::string ExpressionParser::plain_string(std::string_view what) {
  if (tokens_.peek().kind != Token::Kind::string) tokens_.fail(fmt::format("expected {} in quotes", what));
  Token token = tokens_.take();
  return unescaped(token.text, token.where);
}

std::string unescaped(std::string_view raw, const Span& where) {
  constexpr std::pair<char, char> kEscapes[] = {{'n', '\n'},   {'r', '\r'},  {'t', '\t'}, {'0', '\0'},
                                                {'e', '\x1b'}, {'\\', '\\'}, {'"', '"'}};
  auto fail = [&](const std::string& text) {
    throw ProblemFound{
        {Problem::Level::error, where, text, "escapes are \\n \\r \\t \\0 \\e \\\\ \\\" \\xNN and \\u{...}"}};
  };
  std::string out;
  for (std::size_t i = 0; i < raw.size(); ++i) {
    if ((raw[i] == '{' || raw[i] == '}') && i + 1 < raw.size() && raw[i + 1] == raw[i]) ++i;
    if (raw[i] != '\\') {
      out += raw[i];
      continue;
    }
    if (++i == raw.size()) fail("a backslash at the end of a text");
    char letter = raw[i];
    if (letter == 'x') {
      auto value = i + 2 < raw.size() ? parse_number(raw.substr(i + 1, 2), 16) : std::nullopt;
      if (!value) fail("\\x needs two hexadecimal digits");
      out += static_cast<char>(*value);
      i += 2;
    } else if (letter == 'u') {
      std::size_t close = raw.find('}', i);
      auto value = close == std::string_view::npos || raw.substr(i + 1, 1) != "{"
                       ? std::nullopt
                       : parse_number(raw.substr(i + 2, close - i - 2), 16);
      if (!value || *value > 0x10ffff) fail("\\u needs a code point, as in \\u{e9}");
      std::string point;
      for (unsigned shift : {24u, 16u, 8u, 0u}) point += static_cast<char>(*value >> shift);
      auto text = to_utf8(point, "UTF-32BE");
      if (!text) fail("\\u needs a code point, as in \\u{e9}");
      out += *text;
      i = close;
    } else {
      bool known = false;
      for (auto [name, becomes] : kEscapes) {
        if (letter != name) continue;
        out += becomes;
        known = true;
      }
      if (!known) fail(fmt::format("\\{} is no escape", escape(std::string_view(&letter, 1))));
    }
  }
  return out;
}

}  // namespace operculum::layout
