#pragma once

#include "layout/text/token.h"

namespace operculum::layout {

/// Walks over tokens. Line ends count only where a statement could end: not within brackets, and not behind
/// an operator.
class TokenReader {
 public:
  TokenReader(std::string_view text, std::vector<Token> tokens) : text_(text), tokens_(std::move(tokens)) {}

  const Token& peek(std::size_t ahead = 0) const;
  Token take();
  bool at_line_end() const { return peek().kind == Token::Kind::line_end || peek().kind == Token::Kind::end; }
  bool at_end() const { return peek().kind == Token::Kind::end; }
  bool is(std::string_view word) const { return peek().is(word); }
  bool accept(std::string_view word);  ///< takes it when it is next
  void expect(std::string_view word);  ///< throws ProblemFound when it is not
  std::string expect_word(std::string_view what);
  void expect_line_end();
  void skip_line_ends();
  void skip_line();  ///< to recover: passes over the rest of the statement, with the blocks it opens
  [[noreturn]] void fail(const std::string& text, const std::string& hint = "") const;

  /// Within brackets line ends do not count.
  struct Brackets {
    explicit Brackets(TokenReader& reader) : reader_(reader) { ++reader_.depth_; }
    ~Brackets() { --reader_.depth_; }
    Brackets(const Brackets&) = delete;
    Brackets& operator=(const Brackets&) = delete;
    TokenReader& reader_;
  };
  /// Within braces they do again.
  struct Braces {
    explicit Braces(TokenReader& reader) : reader_(reader), depth_(reader.depth_) { reader_.depth_ = 0; }
    ~Braces() { reader_.depth_ = depth_; }
    Braces(const Braces&) = delete;
    Braces& operator=(const Braces&) = delete;
    TokenReader& reader_;
    int depth_;
  };

  Span from(const Span& begin) const { return {begin.at, last_end_ - begin.at}; }
  std::string_view text() const { return text_; }

 private:
  std::size_t index(std::size_t ahead) const;

  std::string_view text_;
  std::vector<Token> tokens_;
  std::size_t at_ = 0, last_end_ = 0;
  int depth_ = 0;
};

}  // namespace operculum::layout
