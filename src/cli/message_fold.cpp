#include "cli/message_fold.h"

#include <fmt/format.h>

#include "base/units.h"

namespace operculum::cli {

void MessageFold::say(Session::Tone tone, std::string_view cause, const std::string& path,
                      const std::string& sentence) {
  std::string_view key = cause.empty() ? std::string_view(sentence) : cause;
  auto group = groups_.find(key);
  if (group == groups_.end()) group = groups_.emplace(std::string(key), Group{tone, 0}).first;
  if (++group->second.count > kSaid && !session_.verbose) return;
  session_.say(tone, path.empty() ? sentence : fmt::format("{}: {}", path, sentence));
}

void MessageFold::finish() {
  for (const auto& [key, group] : groups_) {
    if (group.count <= kSaid || session_.verbose) continue;
    session_.say(group.tone, fmt::format("{} more of these: {} (--verbose lists them)",
                                         grouped(group.count - kSaid), key));
  }
  groups_.clear();
}

}  // namespace operculum::cli
