#pragma once

#include <cstdint>
#include <optional>
#include <string_view>
#include <vector>

#include "io/source.h"

namespace operculum::study {

/// A file of a format that is no container (a picture, a sound, a font, a model), found within other bytes.
struct Leaf {
  std::uint64_t begin = 0, end = 0;  ///< offsets; they are equal where the format does not tell its length
  std::string_view what;             ///< "PNG picture"
};

/// All that begin with their mark and go on as their format has it, in order; none within another. Looks at
/// every byte once, and stops at `most`.
std::vector<Leaf> find_leaves(const Source& file, std::size_t most);

/// The one that a file begins with.
std::optional<Leaf> leaf_in_front(const Source& file);

/// What they begin with, each a few bytes.
std::vector<std::string_view> leaf_marks();

}  // namespace operculum::study
