#pragma once

#include <optional>
#include <string_view>

#include "study/grid.h"

namespace operculum::study {

/// A byte that a name may hold: printable ASCII, or part of another encoding.
constexpr bool is_name_byte(Byte byte) {
  return byte >= 0x20 && byte != 0x7f;
}
constexpr bool is_ascii_name_byte(Byte byte) {
  return byte >= 0x20 && byte < 0x7f;
}

/// A byte of a text of lines: the control characters that are none are left out.
constexpr bool is_text_byte(Byte byte) {
  return (byte >= 0x20 && byte != 0x7f) || (byte >= '\t' && byte <= '\r');
}

constexpr std::size_t kMostName = 1024;  // bytes
constexpr std::size_t kMostLikeLetters =
    4;  // bytes of a number in front of a text that may look like letters

/// Whether it reads as a name: not empty, nothing that cannot be printed, mostly ASCII, some letter or digit,
/// no filling.
bool is_name(std::string_view text);

/// The same of UTF-16 with the low byte first, as far as it is ASCII.
bool is_wide_name(std::string_view text);

/// The ways in which a name of varying length is told from what follows: without fixed bytes around it.
const std::vector<Shape>& name_shapes();

/// A text of a record.
struct RecordText {
  std::string_view text;  ///< without filling behind it; borrowed
  std::size_t taken;      ///< bytes with its length or its end
};

/// The text of a record of `shape` at `at`; nothing when there is none.
std::optional<RecordText> read_text(ByteView bytes, std::size_t at, const Shape& shape);

/// How many bytes a text with a zero behind it takes at `at`, that zero among them; it may be empty. Nothing
/// when there is none.
std::optional<std::size_t> read_other_text(ByteView bytes, std::size_t at);

/// Whether the bytes could be a tag: letters and digits, with some of `filling` behind them.
bool is_tag(ByteView bytes, std::string_view filling);

/// Whether a text goes on at `at`: a number in front of it, of four bytes at most, may look like letters,
/// too.
bool is_inside_text(ByteView bytes, std::size_t at);

}  // namespace operculum::study
