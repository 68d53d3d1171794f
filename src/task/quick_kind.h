#pragma once

#include <optional>
#include <string_view>

#include "base/bytes.h"

namespace operculum {

/// What is certain of a file at a glance.
struct Glance {
  std::string_view kind;
  std::string_view media_type;  ///< empty where only libmagic can tell
};

/// What kind of file begins with these bytes: the commonest pictures, sounds and fonts by their marks, and
/// plain words. Nothing where only libmagic can tell: of text, whatever has a character or a word that a
/// programming or markup language begins with. `whole` says that nothing follows.
std::optional<Glance> quick_kind(ByteView head, bool whole);

}  // namespace operculum
