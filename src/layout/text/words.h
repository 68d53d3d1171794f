#pragma once

#include <span>
#include <string_view>

#include "base/nearest.h"

namespace operculum::layout {

// The words of the language. The parser, the messages and the editors' syntax file agree on these.

std::span<const std::string_view> statement_words();  ///< layout, record, entry, require, ...
std::span<const std::string_view> field_words();      ///< let, skip, align, ...: no field has such a name
std::span<const std::string_view> modifier_words();   ///< at, in, until, padded, ...
std::span<const std::string_view> number_types();     ///< u8, u16le, leb128, decimal, ...
std::span<const std::string_view> role_words();       ///< path, data, size, ...
std::span<const std::string_view> list_words();       ///< first, any, sum, chain, tree, ...

bool contains(std::span<const std::string_view> words, std::string_view word);

}  // namespace operculum::layout
