#pragma once

#include "container/open.h"
#include "study/profile.h"
#include "study/study.h"

namespace operculum {

/// A file of a known format that lies within the one that is studied.
struct Recognised {
  std::uint64_t begin = 0, end = 0;  ///< offsets; they are equal where the end is not known
  std::string what;                  ///< "PNG picture"
};

/// What was found out about a file that nothing else opens.
struct StudyReport {
  std::string target;
  std::uint64_t size = 0;
  std::string
      known_as;  ///< a format that the program knows, when it is one: then there is nothing to find out
  study::Profile profile;
  std::vector<Recognised> inside;  ///< in order; none within another
  study::Findings findings;
  std::size_t same = 0;  ///< how many of the first bytes all files have in common
  std::size_t kin = 0;   ///< how many of the others are of the same kind
};

/// Studies the file or entry that the first target names; the others are files of the same kind, which tell
/// what is the same in all. Throws IoError, and what the layers around a target throw.
StudyReport study_files(const std::vector<std::string>& targets, OpenContext& context);

}  // namespace operculum
