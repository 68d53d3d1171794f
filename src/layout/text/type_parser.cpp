#include <fmt/format.h>

#include "base/text.h"
#include "layout/text/expression_parser.h"
#include "layout/text/words.h"

namespace operculum::layout {

using namespace syntax;

namespace {

constexpr std::string_view kSteps[] = {"*", "/", "+", "-", "xor"};
constexpr std::string_view kTextNumbers[] = {"decimal", "octal", "hexadecimal"};
constexpr std::size_t kSum = 5;  // the level of + and - in ExpressionParser

}  // namespace

TypePtr ExpressionParser::type() {
  auto made = std::make_shared<Type>();
  Span begin = tokens_.peek().where;
  base_type(*made);
  modifiers(*made);
  made->where = tokens_.from(begin);
  TypePtr result = made;
  for (int lists = 0; tokens_.is("["); ++lists) {
    if (lists == kMaxLists) tokens_.fail(fmt::format("more than {} lists within each other", kMaxLists));
    result = list_of(begin, result);
  }
  if (tokens_.accept("at")) {
    auto placed = std::make_shared<Type>(*result);
    placed->at = binary(kSum);
    if (tokens_.accept("in")) placed->in = postfix();
    placed->where = tokens_.from(begin);
    result = placed;
  }
  return result;
}

void ExpressionParser::base_type(Type& type) {
  Token token = tokens_.peek();
  if (token.kind != Token::Kind::word)
    tokens_.fail("expected a type", "a type is a number (u32), text[24], bytes[8], or a record's name");
  std::string_view word = token.text;
  tokens_.take();
  type.where = token.where;
  type.name = word;
  if (word[0] >= 'A' && word[0] <= 'Z') {
    type.kind = Type::Kind::record;
    if (tokens_.is("(")) {
      TokenReader::Brackets within(tokens_);
      tokens_.take();
      type.arguments = arguments();
    }
  } else if (word == "text") {
    text_type(type);
  } else if (word == "bytes") {
    bytes_type(type);
  } else if (word == "bits") {
    bits_type(type);
  } else if (contains(number_types(), word)) {
    number_type(type);
  } else {
    std::string_view meant = nearest(word, number_types());
    throw ProblemFound{{Problem::Level::error, token.where, fmt::format("\"{}\" is no type", word),
                        meant.empty()
                            ? "types are numbers (u32, i16be, leb128 ...), text, bytes, bits, and records, "
                              "whose names begin with a capital letter"
                            : fmt::format("did you mean {}?", meant)}};
  }
}

void ExpressionParser::number_type(Type& type) {
  type.kind = Type::Kind::number;
  if (contains(kTextNumbers, type.name)) {
    if (!tokens_.is("[") && !tokens_.is("until") && !tokens_.is("word"))
      tokens_.fail(fmt::format("expected how long the {} number is", type.name),
                   "write decimal[8], decimal until \"\\n\", or decimal word");
    run_length(type);
    return;
  }
  if (type.name.ends_with("le") || type.name.ends_with("be")) {
    type.big = type.name.ends_with("be");
    type.name.resize(type.name.size() - 2);
  } else if (tokens_.accept("little")) {
    type.big = false;
  } else if (tokens_.accept("big")) {
    type.big = true;
  }
}

void ExpressionParser::bits_type(Type& type) {
  type.kind = Type::Kind::bits;
  type.name = tokens_.expect_word("the number that holds the bits, as in bits u32 { ... }");
  if (!contains(number_types(), type.name) || type.name[0] != 'u')
    tokens_.fail("expected an unsigned number such as u32");
  number_type(type);
  type.kind = Type::Kind::bits;
  tokens_.expect("{");
  TokenReader::Brackets within(tokens_);
  while (!tokens_.accept("}")) {
    std::string name = tokens_.expect_word("the name of some bits");
    tokens_.expect(":");
    type.bits.emplace_back(std::move(name), postfix());
    tokens_.accept(",");
  }
}

/// [n] | until "x" | word
void ExpressionParser::run_length(Type& type) {
  if (tokens_.is("[")) {
    TokenReader::Brackets within(tokens_);
    tokens_.take();
    type.length = expression();
    tokens_.expect("]");
  } else if (tokens_.accept("until")) {
    type.until = run_of_bytes("what it ends with");
  } else if (tokens_.accept("word")) {
    type.word = true;
  } else if (tokens_.accept("to")) {
    tokens_.expect("end");
    type.to_end = true;
  } else if (tokens_.accept("sized")) {
    auto size = std::make_shared<Type>();
    base_type(*size);
    modifiers(*size);
    if (size->kind != Type::Kind::number) tokens_.fail("expected a number that holds the size, such as u16");
    type.sized = size;
  } else {
    tokens_.fail("expected how long it is", "write [24], until 0, sized u16, word, or to end");
  }
}

void ExpressionParser::text_type(Type& type) {
  type.kind = Type::Kind::text;
  run_length(type);
}

void ExpressionParser::bytes_type(Type& type) {
  type.kind = Type::Kind::bytes;
  if (tokens_.peek().kind == Token::Kind::string || tokens_.is("hex")) {
    type.constant = run_of_bytes("the bytes that must stand there");
  } else {
    run_length(type);
  }
}

/// A text in quotes, hex "...", or a number up to 255 as a single byte.
std::string ExpressionParser::run_of_bytes(std::string_view what) {
  Span begin = tokens_.peek().where;
  ExprPtr value;
  if (tokens_.peek().kind == Token::Kind::string) return plain_string(what);
  if (tokens_.is("hex")) value = word();
  if (value && value->kind == Expr::Kind::bytes) return value->name;
  if (tokens_.peek().kind == Token::Kind::number && tokens_.peek().number >= 0 &&
      tokens_.peek().number <= 255)
    return std::string(1, static_cast<char>(tokens_.take().number));
  throw ProblemFound{{Problem::Level::error, begin, fmt::format("expected {}", what),
                      "write a text in quotes, hex \"0d 0a\", or one byte as a number"}};
}

void ExpressionParser::modifiers(Type& type) {
  if (type.kind == Type::Kind::number) {
    for (bool more = true; more;) {
      more = false;
      for (std::string_view symbol : kSteps) {
        if (!tokens_.accept(symbol)) continue;
        type.steps.emplace_back(std::string(symbol), postfix());
        more = true;
      }
    }
    constraint(type);
    return;
  }
  if (type.kind != Type::Kind::text && type.kind != Type::Kind::bytes) return;
  if (tokens_.accept("|")) {
    type.transform = transform();
    if (tokens_.is("|"))
      tokens_.fail("expected the end of this field",
                   "a field takes one codec or cipher; chain more with let");
  }
  while (type.kind == Type::Kind::text) {
    if (tokens_.accept("padded")) {
      type.padded = run_of_bytes("the byte that fills it up");
    } else if (tokens_.accept("encoded")) {
      type.encoding = tokens_.peek().kind == Token::Kind::string
                          ? plain_string("an encoding")
                          : tokens_.expect_word("an encoding such as CP932");
    } else {
      break;
    }
  }
  constraint(type);
}

void ExpressionParser::constraint(Type& type) {
  if (tokens_.accept("=")) {
    type.allowed = {binary(kSum)};
    return;
  }
  if (!tokens_.accept("in")) return;
  if (tokens_.accept("{")) {
    TokenReader::Brackets within(tokens_);
    while (!tokens_.accept("}")) {
      type.allowed.push_back(binary(kSum));
      if (!tokens_.is("}")) tokens_.expect(",");
    }
    return;
  }
  type.low = binary(kSum);
  tokens_.expect("..");
  type.high = binary(kSum);
}

TypePtr ExpressionParser::list_of(const Span& begin, TypePtr element) {
  auto list = std::make_shared<Type>();
  list->kind = Type::Kind::list;
  list->element = std::move(element);
  {
    TokenReader::Brackets within(tokens_);
    tokens_.take();
    if (!tokens_.is("]")) list->count = expression();
    tokens_.expect("]");
  }
  if (!list->count) {
    if (tokens_.accept("until")) {
      list->ends = ListEnd::until;
      list->count = binary(0);
    } else if (tokens_.accept("while")) {
      list->ends = ListEnd::whilst;
      list->count = binary(0);
    } else if (tokens_.accept("within")) {
      list->ends = ListEnd::within;
      list->count = binary(kSum);
    } else if (tokens_.accept("to")) {
      tokens_.expect("end");
      list->ends = ListEnd::to_end;
    } else {
      tokens_.fail("expected how the list ends",
                   "write a count in the brackets, or behind them: until it.size == 0, while it.tag != 0, "
                   "within n, to end");
    }
  }
  list->where = tokens_.from(begin);
  return list;
}

}  // namespace operculum::layout
