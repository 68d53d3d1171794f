#include "layout/rewrite/strategies.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"

namespace operculum::layout {

std::span<const Strategy> strategies() {
  // What follows data is often aligned although that itself is not.
  static constexpr Strategy kStrategies[] = {
      {Strategy::Where::shift, 0},
      {Strategy::Where::shift, 2},
      {Strategy::Where::shift, 4},
      {Strategy::Where::shift, 8},
      {Strategy::Where::shift, 16},
      {Strategy::Where::append, 0},
      {Strategy::Where::append, 16},
      {Strategy::Where::shift, 0, false, true},
      {Strategy::Where::shift, 4, false, true},
  };
  return kStrategies;
}

std::string without_prefix(const std::string& text) {
  return text.substr(std::string_view("Unsupported: ").size());
}

void Trial::fail(const std::string& otherwise) const {
  throw Unsupported(reason_.empty() ? otherwise : without_prefix(reason_));
}

/// Of reading the result: it would not be what is described any more.
std::string Trial::unreadable(const std::string& why) const {
  return fmt::format("Unsupported: writing {} back: the result would not be read: {}", escape(title_), why);
}

std::optional<Made> by_any_strategy(Survey& survey, const std::map<std::size_t, PackedEntry>& packed,
                                    Trial& trial) {
  for (const Strategy& strategy : strategies()) {
    if (auto made = trial.attempt([&] { return attempt(survey, strategy, packed); })) return made;
  }
  return std::nullopt;
}

}  // namespace operculum::layout
