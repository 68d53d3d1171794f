#pragma once

#include <map>

#include "task/counts.h"
#include "task/list.h"

namespace operculum {

/// How much there is of something.
struct Tally {
  std::uint64_t count = 0;
  std::uint64_t bytes = 0;  ///< unpacked
  std::string largest;      ///< path of the largest entry
  std::uint64_t largest_bytes = 0;
};

/// A container at a glance.
struct Summary {
  std::map<std::string, Tally> by_kind;    ///< by content: image, sound, text, script, ...
  std::map<std::string, Tally> by_folder;  ///< by the first folder of the path; "." for entries in none
  Tally all;
  std::uint64_t stored_bytes = 0;
  Counts counts;
};

/// Decodes the first bytes of every wanted file to tell its kind.
Summary summarise(const Place& place, const ListRequest& request, OpenContext& context,
                  const FindingSink& findings);

}  // namespace operculum
