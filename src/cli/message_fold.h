#pragma once

#include <map>
#include <string>
#include <string_view>

#include "cli/session.h"

namespace operculum::cli {

/// Keeps a thousand equal messages from being a thousand lines: the first few of one cause are said, the
/// others are counted and told in one line at the end. --verbose says them all.
class MessageFold {
 public:
  explicit MessageFold(Session& session) : session_(session) {}

  /// `cause` is what equal messages have in common; what is said is "path: sentence".
  void say(Session::Tone tone, std::string_view cause, const std::string& path, const std::string& sentence);

  /// Tells how many more there were; call when all is said.
  void finish();

 private:
  static constexpr std::uint64_t kSaid = 3;  ///< of one cause, in full

  struct Group {
    Session::Tone tone;
    std::uint64_t count = 0;
  };
  Session& session_;
  std::map<std::string, Group, std::less<>> groups_;
};

}  // namespace operculum::cli
