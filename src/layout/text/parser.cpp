#include "layout/text/parser.h"

#include <fmt/format.h>

#include "base/text.h"
#include "layout/text/expression_parser.h"
#include "layout/text/words.h"

namespace operculum::layout {

using namespace syntax;

namespace {

constexpr int kMaxBlocks = 50;  // of fields within each other

class Parser {
 public:
  Parser(const Description& description, std::vector<Problem>& problems)
      : problems_(problems),
        tokens_(description.text, tokens_of(description.text, problems)),
        expressions_(tokens_) {}

  Layout run() {
    tokens_.skip_line_ends();
    guarded([&] {
      if (!tokens_.is("layout"))
        tokens_.fail("expected the word layout",
                     "a description begins with a line like: layout \"Tidepool shoal\"");
      layout_.where = tokens_.take().where;
      layout_.title = expressions_.plain_string("the name of the format");
      tokens_.expect_line_end();
    });
    while (!tokens_.at_end()) {
      if (tokens_.is("}")) {
        guarded([&] { tokens_.fail("expected a statement", "this brace closes nothing"); });
        tokens_.take();
        tokens_.skip_line_ends();
        continue;
      }
      guarded([&] { statement(); });
    }
    return std::move(layout_);
  }

 private:
  /// Runs `work`; a problem in it costs the rest of the statement.
  template <typename Work>
  void guarded(const Work& work) {
    try {
      work();
    } catch (const ProblemFound& found) {
      problems_.push_back(found.problem);
      tokens_.skip_line();
    }
  }

  void statement() {
    Token first = tokens_.peek();
    const Token& next = tokens_.peek(1);
    if (first.kind != Token::Kind::word) tokens_.fail("expected a statement");
    if (next.is("=")) return binding();
    if (first.is("suffix")) return suffix();
    if (first.is("order")) return order();
    if (first.is("record")) return record();
    if (first.is("define")) return define();
    if (first.is("entry")) return entry();
    if (first.is("require")) return condition(Statement::Kind::require);
    if (first.is("expect")) return condition(Statement::Kind::expect);
    if (first.is("fact")) return named(Statement::Kind::fact);
    if (first.is("region")) return named(Statement::Kind::region);
    if (first.is("check")) return check_statement();
    if (first.is("about")) return setting(layout_.about, "what the format is for");
    if (first.is("names")) return setting(layout_.names_file, "the name of the file that lists known names");
    if (first.is("encoding")) {
      tokens_.take();
      layout_.encoding = tokens_.peek().kind == Token::Kind::string
                             ? expressions_.plain_string("an encoding")
                             : tokens_.expect_word("an encoding such as CP932");
      return tokens_.expect_line_end();
    }
    std::string_view meant = nearest(first.text, statement_words());
    throw ProblemFound{
        {Problem::Level::error, first.where, fmt::format("\"{}\" begins no statement", first.text),
         meant.empty() ? "write a name and what it is: items = Item[header.count] at header.index"
                       : fmt::format("did you mean {}?", meant)}};
  }

  void setting(std::string& into, std::string_view what) {
    tokens_.take();
    into = expressions_.plain_string(what);
    tokens_.expect_line_end();
  }

  void suffix() {
    tokens_.take();
    while (!tokens_.at_line_end()) {
      tokens_.expect(".");
      std::string ending = ".";
      const Token& token = tokens_.peek();
      if (token.kind != Token::Kind::word && token.kind != Token::Kind::number)
        tokens_.fail("expected a name ending such as .shoal");
      // words, digits and dashes without a blank between them, and further parts: .1c .x-pack .tar.shoal
      for (std::size_t end = token.where.at; !tokens_.at_line_end() && tokens_.peek().where.at == end;) {
        const Token& part = tokens_.take();
        end = part.where.at + part.where.length;
        ending += part.text;
      }
      layout_.suffixes.push_back(to_lower(ending));
    }
    tokens_.expect_line_end();
  }

  bool byte_order() {
    if (tokens_.accept("big")) return true;
    if (!tokens_.accept("little")) tokens_.fail("expected little or big");
    return false;
  }

  void order() {
    Statement made{.kind = Statement::Kind::order, .where = tokens_.take().where};
    made.big = byte_order();
    if (tokens_.accept("when")) made.value = expressions_.expression();
    if (made.value && tokens_.accept("otherwise")) {
      made.other_order = true;
      byte_order();
    }
    add(std::move(made));
  }

  void add(Statement made) {
    tokens_.expect_line_end();
    layout_.statements.push_back(std::move(made));
  }

  void binding() {
    Statement made{.kind = Statement::Kind::binding, .where = tokens_.peek().where};
    made.name = tokens_.take().text;
    tokens_.take();
    tokens_.skip_line_ends();
    made.value = expressions_.expression();
    add(std::move(made));
  }

  void condition(Statement::Kind kind) {
    Statement made{.kind = kind, .where = tokens_.take().where};
    made.value = expressions_.expression();
    if (tokens_.accept(":")) made.message = expressions_.plain_string("what is wrong when it does not hold");
    made.where = tokens_.from(made.where);
    add(std::move(made));
  }

  void named(Statement::Kind kind) {
    Statement made{.kind = kind, .where = tokens_.take().where};
    made.name = tokens_.expect_word("a name");
    tokens_.expect("=");
    made.value = expressions_.expression();
    add(std::move(made));
  }

  /// check crc32 of bytes(0, 16) = header.sum
  Check check() {
    Check made;
    made.where = tokens_.take().where;
    made.algorithm = tokens_.expect_word("the name of a checksum");
    if (tokens_.is("(")) {
      TokenReader::Brackets within(tokens_);
      tokens_.take();
      made.arguments = expressions_.arguments();
    }
    tokens_.expect("of");
    if ((tokens_.is("data") || tokens_.is("stored")) && tokens_.peek(1).is("=")) {
      made.of_role = tokens_.take().text;
    } else {
      made.of = expressions_.expression();
    }
    tokens_.expect("=");
    made.expected = expressions_.expression();
    made.where = tokens_.from(made.where);
    return made;
  }

  void check_statement() {
    Statement made{.kind = Statement::Kind::check, .where = tokens_.peek().where};
    made.check = check();
    add(std::move(made));
  }

  std::vector<Parameter> parameters() {
    std::vector<Parameter> all;
    if (!tokens_.is("(")) return all;
    TokenReader::Brackets within(tokens_);
    tokens_.take();
    while (!tokens_.accept(")")) {
      Parameter one;
      one.where = tokens_.peek().where;
      one.name = tokens_.expect_word("the name of a parameter");
      if (tokens_.accept(":")) one.type = tokens_.expect_word("number, text, bytes or a record");
      all.push_back(std::move(one));
      if (!tokens_.is(")")) tokens_.expect(",");
    }
    return all;
  }

  void define() {
    Function made;
    made.where = tokens_.take().where;
    made.name = tokens_.expect_word("the name of the function");
    made.parameters = parameters();
    if (tokens_.accept(":")) made.result = tokens_.expect_word("number, text, bytes or a record");
    tokens_.expect("=");
    tokens_.skip_line_ends();
    made.body = expressions_.expression();
    tokens_.expect_line_end();
    layout_.functions.push_back(std::move(made));
  }

  void record() {
    Record made;
    tokens_.take();
    made.where = tokens_.peek().where;
    made.name = tokens_.expect_word("the name of the record");
    if (made.name[0] < 'A' || made.name[0] > 'Z')
      throw ProblemFound{
          {Problem::Level::error, made.where, "the name of a record begins with a capital letter", ""}};
    made.parameters = parameters();
    made.fields = block();
    tokens_.expect_line_end();
    layout_.records.push_back(std::move(made));
  }

  std::vector<Field> block() {
    if (++blocks_ > kMaxBlocks) tokens_.fail("blocks are nested too deeply");
    TokenReader::Braces within(tokens_);
    tokens_.expect("{");
    tokens_.skip_line_ends();
    std::vector<Field> fields;
    while (!tokens_.is("}")) {
      if (tokens_.at_end()) tokens_.fail("expected \"}\"");
      guarded([&] {
        fields.push_back(field());
        tokens_.expect_line_end();
      });
    }
    tokens_.take();
    --blocks_;
    return fields;
  }

  Field field() {
    Token first = tokens_.peek();
    Field made{.kind = Field::Kind::read, .where = first.where};
    if (first.kind != Token::Kind::word)
      tokens_.fail("expected a field", "a field is a name and a type: count u32");
    using Kind = Field::Kind;
    struct Word {
      std::string_view word;
      Kind kind;
    };
    constexpr Word kWords[] = {{"let", Kind::let},   {"skip", Kind::skip},       {"align", Kind::align},
                               {"seek", Kind::seek}, {"require", Kind::require}, {"expect", Kind::expect},
                               {"when", Kind::when}, {"within", Kind::within},   {"order", Kind::order}};
    for (const Word& word : kWords) {
      if (first.is(word.word)) made.kind = word.kind;
    }
    tokens_.take();
    switch (made.kind) {
      case Kind::read:
        made.name = first.text;
        made.type = expressions_.type();
        if (tokens_.accept("when")) made = only_when(std::move(made));
        break;
      case Kind::let:
        made.name = tokens_.expect_word("a name");
        tokens_.expect("=");
        made.value = expressions_.expression();
        if (tokens_.accept("when")) made = only_when(std::move(made));
        break;
      case Kind::require:
      case Kind::expect:
        made.value = expressions_.expression();
        if (tokens_.accept(":"))
          made.message = expressions_.plain_string("what is wrong when it does not hold");
        break;
      case Kind::when:
        made.value = expressions_.expression();
        made.fields = block();
        made.otherwise = otherwise();
        break;
      case Kind::within:
        made.value = expressions_.expression();
        made.fields = block();
        break;
      case Kind::order:
        made.big = byte_order();
        if (tokens_.accept("when")) made.value = expressions_.expression();
        break;
      default:
        made.value = expressions_.expression();
        break;
    }
    made.where = tokens_.from(first.where);
    return made;
  }

  /// `check u32 when version > 1` is short for a block of one field.
  Field only_when(Field inner) {
    Field made{.kind = Field::Kind::when, .where = inner.where};
    made.value = expressions_.expression();
    inner.where = tokens_.from(inner.where);
    made.fields.push_back(std::move(inner));
    return made;
  }

  std::vector<Field> otherwise() {
    if (!tokens_.accept("else")) return {};
    if (!tokens_.is("when")) return block();
    std::vector<Field> fields;
    fields.push_back(field());
    return fields;
  }

  void entry() {
    Statement made{.kind = Statement::Kind::entry, .where = tokens_.take().where};
    EntryRule& rule = made.entry;
    while (tokens_.accept("for")) {
      Loop loop;
      loop.where = tokens_.peek().where;
      loop.variable = tokens_.expect_word("a name for the thing looked at");
      if (tokens_.accept("number")) loop.number_variable = tokens_.expect_word("a name for its number");
      tokens_.expect("in");
      loop.list = expressions_.expression();
      rule.loops.push_back(std::move(loop));
      if (!tokens_.is("{")) tokens_.skip_line_ends();
    }
    if (tokens_.accept("where")) rule.condition = expressions_.expression();
    if (!tokens_.is("{")) tokens_.skip_line_ends();
    TokenReader::Braces within(tokens_);
    tokens_.expect("{");
    tokens_.skip_line_ends();
    while (!tokens_.is("}")) {
      if (tokens_.at_end()) tokens_.fail("expected \"}\"");
      guarded([&] {
        role(rule);
        tokens_.expect_line_end();
      });
    }
    tokens_.take();
    rule.where = made.where = tokens_.from(made.where);
    add(std::move(made));
  }

  void role(EntryRule& rule) {
    if (tokens_.is("check") && !tokens_.peek(1).is("=")) {
      rule.checks.push_back(check());
      return;
    }
    if (tokens_.accept("let")) {
      std::string name = tokens_.expect_word("a name");
      tokens_.expect("=");
      rule.lets.emplace_back(std::move(name), expressions_.expression());
      return;
    }
    Role made;
    made.where = tokens_.peek().where;
    made.name = tokens_.expect_word("what this is of the entry, such as path or data");
    if (!contains(role_words(), made.name)) {
      std::string_view meant = nearest(made.name, role_words());
      throw ProblemFound{{Problem::Level::error, made.where, fmt::format("an entry has no \"{}\"", made.name),
                          meant.empty() ? "it has path, data, size, time, created, accessed, mode, crc32, "
                                          "comment, kind, folder, link, encrypted, also"
                                        : fmt::format("did you mean {}?", meant)}};
    }
    tokens_.expect("=");
    tokens_.skip_line_ends();
    made.value = expressions_.expression();
    rule.roles.push_back(std::move(made));
  }

  std::vector<Problem>& problems_;
  TokenReader tokens_;
  ExpressionParser expressions_;
  Layout layout_;
  int blocks_ = 0;
};

}  // namespace

Layout parse(const Description& description, std::vector<Problem>& problems) {
  return Parser(description, problems).run();
}

}  // namespace operculum::layout
