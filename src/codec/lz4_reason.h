#pragma once

#include <lz4frame.h>

#include <string>
#include <string_view>

namespace operculum {

/// The library's name of an error in words: "header checksum invalid" of "ERROR_headerChecksum_invalid".
inline std::string lz4_reason(LZ4F_errorCode_t code) {
  constexpr std::string_view kPrefix = "ERROR_";
  std::string_view name = LZ4F_getErrorName(code);
  if (name.starts_with(kPrefix)) name.remove_prefix(kPrefix.size());
  std::string words;
  for (char c : name) {
    bool capital = c >= 'A' && c <= 'Z';
    if (capital || c == '_') words += ' ';
    if (c != '_') words += capital ? static_cast<char>(c - 'A' + 'a') : c;
  }
  return words;
}

}  // namespace operculum
