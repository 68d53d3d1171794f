#pragma once

#include <set>
#include <string>

#include "base/bytes.h"

namespace operculum::iso {

/// How names are written in one of a disc's trees.
enum class NameForm {
  plain,   ///< ECMA-119, 7.5: capital letters, digits and underscores, and ";1" behind files
  joliet,  ///< UTF-16, big-endian
};

/// The identifier of a record for `name`. `exact`: the tree is the one that is shown, so the name must come
/// out again; else it is made to fit, and numbered where one of `taken` is the same. Throws Unsupported.
Bytes identifier_for(const std::string& name, bool is_folder, NameForm form, bool exact,
                     const std::set<Bytes>& taken);

/// The order of records in a folder (ECMA-119, 9.3).
bool comes_before(ByteView a, ByteView b, NameForm form);

}  // namespace operculum::iso
