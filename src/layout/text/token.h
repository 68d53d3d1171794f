#pragma once

#include <cstdint>

#include "layout/text/problem.h"

namespace operculum::layout {

/// A word of a description and where it stands.
struct Token {
  enum class Kind {
    word,    ///< a name or a keyword
    number,  ///< decimal, 0x, 0o, 0b; underscores between digits
    string,  ///< in double quotes; `text` holds what stands between them, escapes still in it
    symbol,  ///< an operator or a bracket
    line_end,
    end,
  };
  Kind kind = Kind::end;
  std::string_view text;  ///< borrows from the description
  std::int64_t number = 0;
  Span where;

  bool is(std::string_view symbol_or_word) const {
    return (kind == Kind::symbol || kind == Kind::word) && text == symbol_or_word;
  }
};

/// Splits a description into tokens; ends with Kind::end. A '#' begins a comment that ends with the line.
/// Problems are added to `problems` and what cannot be understood is passed over. Begins at offset `from`.
std::vector<Token> tokens_of(std::string_view text, std::vector<Problem>& problems, std::size_t from = 0);

}  // namespace operculum::layout
