#pragma once

#include <optional>
#include <string_view>

#include "base/bytes.h"

namespace operculum {

/// What kind of file begins with these bytes, where that is certain at a glance: the commonest pictures,
/// sounds and fonts by their marks, and plain words. Nothing where only libmagic can tell: of text, whatever
/// has a character or a word that a programming or markup language begins with. `whole` says that nothing
/// follows.
std::optional<std::string_view> quick_kind(ByteView head, bool whole);

}  // namespace operculum
