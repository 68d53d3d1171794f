#pragma once

#include <cstddef>
#include <cstdint>

namespace operculum::study {

struct Hypothesis;

/// How records tell which ones lie in those that are folders.
struct Nesting {
  enum class Kind {
    parent,    ///< the number of the record that it lies in
    depth,     ///< how deep each lies, in an order that goes down into folders
    behind,    ///< in the same order: the number of the record behind all that lies in it
    inside,    ///< in the same order: how many records lie in it, at any depth
    children,  ///< the number of the first record in it, and how many there are, one behind the other
    links,     ///< the number of the first record in it, and of each one's next in the same folder
  };
  Kind kind = Kind::parent;
  std::uint64_t first = 0;  ///< what the first record is called; of depths, the least
  std::uint64_t none = 0;   ///< what stands for no record
  std::size_t roots = 1;    ///< that many first records lie in no folder, where they lie side by side
  bool nameless = false;    ///< the first record is the folder of all others, and has no name
};

/// Looks for such columns where records have names of their own, and do not name their folder (see
/// find_parents()). Folders have no data.
void find_nesting(Hypothesis& found);

}  // namespace operculum::study
