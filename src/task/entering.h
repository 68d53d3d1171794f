#pragma once

#include <string_view>

#include "container/entry.h"

namespace operculum {

struct Format;
struct OpenContext;

/// Which entries are looked at to see whether they are containers, and then gone into.
enum class Enter {
  none,
  named,   ///< those whose names say that several files are in them: nothing need be read of the others
  likely,  ///< those, and all whose names do not say that they are something else, such as a text or a
           ///< picture
  all,
};

/// Whether what is in such a container are parts of a disk or of firmware, no files with names of their own:
/// they are always worth a look.
bool holds_parts(const Format& format);

/// Whether a name is that of a container of any kind, a single document that is packed among them.
bool names_packed(std::string_view name, const OpenContext* context = nullptr);

/// Whether a name says that several files are in it: a single one that is packed (notes.txt.gz) is a
/// document.
bool names_a_container(std::string_view name, const OpenContext& context);

/// Whether an entry of this name and size may be a container, as far as the rule looks.
bool may_be_container(std::string_view name, std::uint64_t size, Enter rule, const OpenContext& context);

}  // namespace operculum
