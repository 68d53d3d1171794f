#include "layout/text/token.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace operculum::layout {
namespace {

constexpr std::string_view kSymbols[] = {"..", "==", "!=", "<=", ">=", "<<", ">>", "{", "}",
                                         "(",  ")",  "[",  "]",  ",",  ":",  "=",  "<", ">",
                                         "+",  "-",  "*",  "/",  "%",  "|",  ".",  "~"};

bool is_letter(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
}
bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

class Lexer {
 public:
  Lexer(std::string_view text, std::vector<Problem>& problems, std::size_t from)
      : text_(text), problems_(problems), at_(from) {}

  std::vector<Token> run() {
    while (at_ < text_.size()) step();
    add(Token::Kind::line_end, at_, 0);
    add(Token::Kind::end, at_, 0);
    return std::move(tokens_);
  }

 private:
  void add(Token::Kind kind, std::size_t at, std::size_t length, std::int64_t number = 0) {
    tokens_.push_back({kind, text_.substr(at, length), number, {at, length}});
  }

  void step() {
    char c = text_[at_];
    if (c == '\n' || c == ';') {
      add(Token::Kind::line_end, at_++, 1);
    } else if (c == ' ' || c == '\t' || c == '\r') {
      ++at_;
    } else if (c == '#') {
      at_ = std::min(text_.find('\n', at_), text_.size());
    } else if (is_letter(c)) {
      word();
    } else if (is_digit(c)) {
      number();
    } else if (c == '"') {
      string();
    } else {
      symbol();
    }
  }

  void word() {
    std::size_t begin = at_;
    while (at_ < text_.size() && (is_letter(text_[at_]) || is_digit(text_[at_]))) ++at_;
    add(Token::Kind::word, begin, at_ - begin);
  }

  void number() {
    std::size_t begin = at_;
    while (at_ < text_.size() && (is_letter(text_[at_]) || is_digit(text_[at_]))) ++at_;
    std::string digits;
    for (char c : text_.substr(begin, at_ - begin)) {
      if (c != '_') digits += c;
    }
    int base = 10;
    if (digits.size() > 2 && digits[0] == '0' && !is_digit(digits[1])) {
      base = digits[1] == 'x' ? 16 : digits[1] == 'o' ? 8 : digits[1] == 'b' ? 2 : 10;
      if (base != 10) digits.erase(0, 2);
    }
    auto value = parse_number(digits, base);
    bool behind_dot = begin > 0 && (text_[begin - 1] == '.' || text_[begin - 1] == '-');
    if (!value && behind_dot) return add(Token::Kind::word, begin, at_ - begin);  // a name ending: .1c
    if (!value) {
      problem(begin, at_ - begin,
              fmt::format("\"{}\" is no number of 64 bits", text_.substr(begin, at_ - begin)),
              "numbers are written 1234, 0x4d2, 0o2322 or 0b1001");
    }
    add(Token::Kind::number, begin, at_ - begin, static_cast<std::int64_t>(value.value_or(0)));
  }

  void string() {
    std::size_t begin = ++at_;
    while (at_ < text_.size() && text_[at_] != '"' && text_[at_] != '\n') {
      at_ += text_[at_] == '\\' && at_ + 1 < text_.size() ? 2 : 1;
    }
    if (at_ >= text_.size() || text_[at_] != '"') {
      at_ = std::min(at_, text_.size());
      problem(begin - 1, at_ - begin + 1, "this text has no closing quote", "a quote within is written \\\"");
    }
    add(Token::Kind::string, begin, at_ - begin);
    if (at_ < text_.size() && text_[at_] == '"') ++at_;
  }

  void symbol() {
    for (std::string_view symbol : kSymbols) {
      if (!text_.substr(at_).starts_with(symbol)) continue;
      add(Token::Kind::symbol, at_, symbol.size());
      at_ += symbol.size();
      return;
    }
    problem(at_, 1, fmt::format("the character \"{}\" has no meaning here", escape(text_.substr(at_, 1))),
            "");
    ++at_;
  }

  void problem(std::size_t at, std::size_t length, std::string text, std::string hint) {
    problems_.push_back({Problem::Level::error, {at, length}, std::move(text), std::move(hint)});
  }

  std::string_view text_;
  std::vector<Problem>& problems_;
  std::vector<Token> tokens_;
  std::size_t at_;
};

}  // namespace

std::vector<Token> tokens_of(std::string_view text, std::vector<Problem>& problems, std::size_t from) {
  return Lexer(text, problems, from).run();
}

}  // namespace operculum::layout
