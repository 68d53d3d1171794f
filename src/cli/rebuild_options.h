#pragma once

#include "cli/session.h"
#include "task/rebuild.h"

namespace operculum::cli {

/// Options that commands which write containers share.
struct PackOptions {
  std::string method;
  std::string level;
  unsigned jobs = 0;

  void add_to(Options& command);
  PackChoice choice() const;  ///< throws UsageError
};

/// "PATH=FILE": at the last "=" in front of something that is there, else at the last one. Throws UsageError
/// naming the option.
Wish wish_of(Wish::Kind kind, const std::string& text, const char* option);

/// Gives up all rights but those that the rebuild needs, and changing what is in `workshop`, if it is named.
void confine_rebuild(Session& session, const RebuildRequest& request, const std::string& workshop = "");

/// What is told of a rebuild: every entry's fate, or of a new pack what is in it.
enum class Told { fates, result };

/// Runs a rebuild and tells of it.
void run_rebuild(Session& session, const RebuildRequest& request, Told told = Told::fates);

/// The word for a format to be made; a description's file becomes one of the session's own descriptions, and
/// its name the word. Before prepare().
std::string word_for_format(Session& session, const std::string& given);

}  // namespace operculum::cli
