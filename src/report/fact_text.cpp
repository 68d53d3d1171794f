#include "report/fact_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"

namespace operculum {

std::string fact_text(std::string_view value) {
  constexpr std::size_t kMost = 1000;  // bytes
  if (value.size() <= kMost) return escape(value);
  return fmt::format("{}... ({} bytes)", escape(value.substr(0, kMost)), grouped(value.size()));
}

}  // namespace operculum
