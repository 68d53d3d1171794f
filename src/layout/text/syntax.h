#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "layout/text/problem.h"

namespace operculum::layout::syntax {

// What the parser makes of a description: its structure, nothing looked up yet. docs/layout-language.md has
// the grammar; the names here are those of its rules.

struct Expr;
struct Type;
struct Transform;
using ExprPtr = std::shared_ptr<const Expr>;
using TypePtr = std::shared_ptr<const Type>;
using TransformPtr = std::shared_ptr<const Transform>;

/// `name = value` within brackets.
struct Argument {
  std::string name;  // empty: by position
  ExprPtr value;
  Span where;
};

/// An expression as it is written.
struct Expr {
  enum class Kind {
    number,
    text,   // name holds it; without parts
    form,   // a text with {...}: parts and, between them, texts
    bytes,  // hex "...": name holds them
    name,
    field,    // parts[0] . name
    element,  // parts[0] [ parts[1] ]
    slice,    // parts[0] [ parts[1] .. parts[2] ]
    call,     // name ( arguments )
    unary,    // name is the operator
    binary,
    between,      // parts[0] in parts[1] .. parts[2]
    one_of,       // parts[0] in { parts[1], ... }
    conditional,  // if parts[0] then parts[1] else parts[2]
    fallback,     // parts[0] else parts[1]
    pipe,         // parts[0] | transform
    read,         // type at parts[0] [in parts[1]]
    list,         // [ parts ]
    over,         // name ( variable in parts[0] [where condition] [: body] ): first, any, all, sum, ...
    fold,         // name ( carried from parts[1], variable in parts[0] : body ): fold, scan
    chain,        // chain ( variable from parts[0] while condition then body )
    tree,         // tree ( variable in parts[0] by body )
  };
  Kind kind;
  Span where;
  std::string name;
  std::int64_t number = 0;
  std::vector<ExprPtr> parts;
  std::vector<std::string> texts;  // of a form: parts.size() + 1; how each part is shown is in `shows`
  std::vector<std::string> shows;
  std::vector<Argument> arguments;
  TypePtr type;
  TransformPtr transform;
  std::string variable, number_variable;  // bound by over, fold, chain and tree
  std::string carried;                    // bound by fold
  ExprPtr condition, body;
  int depth =
      0;  // how many expressions lie within each other in it: whoever goes through them recurses so deep
};

/// What stands behind a '|'.
struct Transform {
  enum class Kind { call, when, choose };
  Kind kind;
  Span where;
  std::string name;
  std::vector<Argument> arguments;
  ExprPtr condition;                                      // of when and choose
  std::vector<std::pair<ExprPtr, TransformPtr>> choices;  // of choose
  TransformPtr then, otherwise;
};

/// How a list ends.
enum class ListEnd { counted, until, whilst, within, to_end };

/// What a field is read as.
struct Type {
  enum class Kind { number, bits, text, bytes, record, list };
  Kind kind;
  Span where;
  std::string name;                                    // number: u32, leb128, decimal ...; record: its name
  std::optional<bool> big;                             // of a number: stated byte order
  std::vector<std::pair<std::string, ExprPtr>> steps;  // arithmetic behind a number: operator and operand
  ExprPtr length;                                      // text[...], bytes[...], decimal[...]
  std::string until;                                   // text until: the byte(s) that end it
  TypePtr sized;                                       // text sized u16
  bool to_end = false;
  bool word = false;  // text word, decimal word: blanks, then what stands before the next blank
  std::optional<std::string> constant;  // bytes "..."
  std::optional<std::string> padded;    // what fills a text up
  std::string encoding;
  TransformPtr transform;                             // | ... behind text or bytes
  std::vector<std::pair<std::string, ExprPtr>> bits;  // of bits: name and width
  std::vector<Argument> arguments;                    // of a record
  TypePtr element;                                    // of a list
  ListEnd ends = ListEnd::counted;
  ExprPtr count;                 // of a list: count, condition or size
  ExprPtr low, high;             // in low..high
  std::vector<ExprPtr> allowed;  // in {...} or = ...
  ExprPtr at, in;                // placed elsewhere
};

/// A line of a record.
struct Field {
  enum class Kind { read, let, skip, align, seek, require, expect, when, within, order };
  Kind kind;
  Span where;
  std::string name;
  TypePtr type;
  ExprPtr value;
  std::string message;  // of require and expect
  std::vector<Field> fields, otherwise;
  bool big = false, other_order = false;  // of order
};

/// A name that a record or a function is given a value for.
struct Parameter {
  std::string name, type;
  Span where;
};

/// A record as it is written.
struct Record {
  std::string name;
  Span where;
  std::vector<Parameter> parameters;
  std::vector<Field> fields;
};

/// A function as it is written.
struct Function {
  std::string name;
  Span where;
  std::vector<Parameter> parameters;
  std::string result;  // its kind when stated
  ExprPtr body;
};

/// What an entry rule is carried out for each of.
struct Loop {
  std::string variable, number_variable;
  ExprPtr list;
  Span where;
};

/// A checksum that must fit.
struct Check {
  std::string algorithm;
  std::vector<Argument> arguments;
  ExprPtr of, expected;
  std::string of_role;  // "data" or "stored" in an entry
  Span where;
};

/// What a value is for an entry: its path, its data, ...
struct Role {
  std::string name;
  ExprPtr value;
  Span where;
};

/// What makes entries, and of what.
struct EntryRule {
  Span where;
  std::vector<Loop> loops;
  ExprPtr condition;
  std::vector<std::pair<std::string, ExprPtr>> lets;
  std::vector<Role> roles;
  std::vector<Check> checks;
};

/// A line outside of records.
struct Statement {
  enum class Kind { binding, require, expect, fact, check, entry, order, region };
  Kind kind;
  Span where;
  std::string name;  // of a binding, fact or region
  ExprPtr value;
  std::string message;
  Check check;
  EntryRule entry;
  bool big = false, other_order = false;
};

/// A whole description.
struct Layout {
  std::string title;
  Span where;
  std::string about, encoding, names_file;
  std::vector<std::string> suffixes;
  std::vector<Record> records;
  std::vector<Function> functions;
  std::vector<Statement> statements;  // in order
};

}  // namespace operculum::layout::syntax
