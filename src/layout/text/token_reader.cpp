#include "layout/text/token_reader.h"

#include <fmt/format.h>

#include "base/text.h"

namespace operculum::layout {

std::size_t TokenReader::index(std::size_t ahead) const {
  std::size_t i = at_;
  for (;; ++i) {
    while (depth_ > 0 && tokens_[i].kind == Token::Kind::line_end && i + 1 < tokens_.size()) ++i;
    if (ahead == 0 || i + 1 >= tokens_.size()) return i;
    --ahead;
  }
}

const Token& TokenReader::peek(std::size_t ahead) const {
  return tokens_[index(ahead)];
}

Token TokenReader::take() {
  std::size_t i = index(0);
  const Token& token = tokens_[i];
  at_ = std::min(i + 1, tokens_.size() - 1);
  last_end_ = token.where.at + token.where.length + (token.kind == Token::Kind::string ? 1 : 0);
  return token;
}

bool TokenReader::accept(std::string_view word) {
  if (!is(word)) return false;
  take();
  return true;
}

void TokenReader::expect(std::string_view word) {
  if (!accept(word)) fail(fmt::format("expected \"{}\"", word));
}

std::string TokenReader::expect_word(std::string_view what) {
  if (peek().kind != Token::Kind::word) fail(fmt::format("expected {}", what));
  return std::string(take().text);
}

void TokenReader::expect_line_end() {
  if (is("}")) return;
  if (!at_line_end())
    fail("expected the end of the line",
         "one statement a line; an operator at the end of a line lets it go on");
  skip_line_ends();
}

void TokenReader::skip_line_ends() {
  while (peek().kind == Token::Kind::line_end) take();
}

void TokenReader::skip_line() {
  int depth = 0;
  depth_ = 0;
  while (!at_end()) {
    if (is("{") || is("(") || is("[")) ++depth;
    if (is("}") || is(")") || is("]")) {
      if (depth == 0 && is("}")) return;
      --depth;
    }
    if (peek().kind == Token::Kind::line_end && depth <= 0) break;
    take();
  }
  skip_line_ends();
}

void TokenReader::fail(const std::string& text, const std::string& hint) const {
  const Token& token = peek();
  std::string found = token.kind == Token::Kind::end        ? "the end of the description"
                      : token.kind == Token::Kind::line_end ? "the end of the line"
                                                            : fmt::format("\"{}\"", escape(token.text));
  throw ProblemFound{{Problem::Level::error, token.where, fmt::format("{}, found {}", text, found), hint}};
}

}  // namespace operculum::layout
