#include "layout/text/words.h"

#include <algorithm>
#include <numeric>
#include <vector>

namespace operculum::layout {
namespace {

constexpr std::string_view kStatements[] = {"layout", "suffix", "about",  "order", "encoding",
                                            "names",  "record", "define", "entry", "require",
                                            "expect", "fact",   "check",  "region"};
constexpr std::string_view kFields[] = {"let",    "skip", "align",  "seek",  "require",
                                        "expect", "when", "within", "order", "else"};
constexpr std::string_view kModifiers[] = {"at",    "in",     "until",   "while", "within", "to",
                                           "end",   "padded", "encoded", "sized", "word",   "for",
                                           "where", "when",   "else",    "if",    "then",   "choose",
                                           "from",  "number", "by",      "of",    "little", "big"};
constexpr std::string_view kNumbers[] = {
    "u8",    "u16",   "u24",   "u32",   "u40",    "u48",     "u56",   "u64",     "i8",    "i16",
    "i24",   "i32",   "i40",   "i48",   "i56",    "i64",     "u16le", "u24le",   "u32le", "u40le",
    "u48le", "u56le", "u64le", "i16le", "i24le",  "i32le",   "i40le", "i48le",   "i56le", "i64le",
    "u16be", "u24be", "u32be", "u40be", "u48be",  "u56be",   "u64be", "i16be",   "i24be", "i32be",
    "i40be", "i48be", "i56be", "i64be", "leb128", "sleb128", "vlq",   "decimal", "octal", "hexadecimal"};
constexpr std::string_view kRoles[] = {"path",  "data",    "size", "time",   "created", "accessed",  "mode",
                                       "crc32", "comment", "kind", "folder", "link",    "encrypted", "also"};
constexpr std::string_view kLists[] = {"first", "last", "any",  "all",   "count", "sum",  "least",
                                       "most",  "each", "join", "chain", "tree",  "fold", "scan"};

}  // namespace

std::span<const std::string_view> statement_words() {
  return kStatements;
}
std::span<const std::string_view> field_words() {
  return kFields;
}
std::span<const std::string_view> modifier_words() {
  return kModifiers;
}
std::span<const std::string_view> number_types() {
  return kNumbers;
}
std::span<const std::string_view> role_words() {
  return kRoles;
}
std::span<const std::string_view> list_words() {
  return kLists;
}

bool contains(std::span<const std::string_view> words, std::string_view word) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

}  // namespace operculum::layout
