#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"

namespace operculum {

bool is_ascii(std::string_view text);

/// Printable ASCII without a backslash: what escape() leaves alone.
bool is_plain(std::string_view text);

/// Well-formed UTF-8 (RFC 3629): no overlong forms, no surrogates, nothing above U+10FFFF.
bool is_utf8(std::string_view text);

/// Bytes in `encoding` (any name the C library's iconv knows: CP437, CP932, CP1252, UTF-16LE, ...) as UTF-8;
/// nothing when a byte has no meaning there. Throws Unsupported when the encoding is not known.
std::optional<std::string> to_utf8(std::string_view raw, const std::string& encoding);

/// UTF-8 in another encoding; nothing when it has no place for a character. Throws as to_utf8().
std::optional<std::string> from_utf8(std::string_view text, const std::string& encoding);

/// Throws Unsupported when iconv does not know the encoding.
void require_encoding(const std::string& encoding);

/// Text from a container made harmless for a terminal and for line-based output: control characters,
/// bidirectional overrides and bytes that are not UTF-8 appear as \n, \x1b, \u202e, and a backslash as \\, so
/// that it can be undone.
std::string escape(std::string_view text);

/// The same for text that is only read, not typed again: backslashes and tabs stay, line ends are blanks.
std::string printable(std::string_view text);

/// Undoes escape(); nothing when the text has a backslash that escape() would not have written.
std::optional<std::string> unescape(std::string_view text);

/// A word as a POSIX shell wants it typed: as it is, within quotes, or, where some of it cannot be seen, as
/// $'...' with escape().
std::string shell_word(std::string_view word);

/// Lower-case hexadecimal digits, two a byte.
std::string to_hex(ByteView bytes);

/// Undoes to_hex(), in either case; nothing when another character occurs or a digit is missing.
std::optional<Bytes> from_hex(std::string_view digits);

/// The bytes that base64 digits stand for (RFC 4648, section 4); other characters, such as blanks and
/// padding, are passed over.
Bytes from_base64(std::string_view digits);

/// A text in a field of fixed size: what stands in front of the first zero.
inline std::string_view until_zero(std::string_view field) {
  return field.substr(0, field.find('\0'));
}

/// Columns that UTF-8 text takes on a terminal.
std::size_t display_width(std::string_view text);

std::vector<std::string_view> split(std::string_view text, char separator);
std::string_view trim(std::string_view text);  ///< without blanks, tabs and line ends at either end
std::string to_lower(std::string_view text);   ///< ASCII letters only

/// Reads unsigned digits in `base`; nothing when empty, when another character occurs, or beyond 64 bits.
std::optional<std::uint64_t> parse_number(std::string_view digits, int base = 10);

}  // namespace operculum
