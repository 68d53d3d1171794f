#include "base/brief_text.h"

#include "base/text.h"

namespace operculum {

std::string escape_briefly(std::string_view text) {
  constexpr std::size_t kMost = 80;  // bytes of the text
  if (text.size() <= kMost) return escape(text);
  std::size_t length = kMost;
  while (length > 0 && (static_cast<unsigned char>(text[length]) & 0xC0) == 0x80)
    --length;  // whole characters
  return escape(text.substr(0, length)) + "...";
}

}  // namespace operculum
