#pragma once

#include "study/hypothesis.h"
#include "study/trial.h"

namespace operculum::study {

/// An explanation, written down and tried.
struct Drafted {
  Hypothesis hypothesis;
  std::string text;  ///< the description
  Trial trial;
  double score = 0;     ///< the higher, the better
  std::string dropped;  ///< why it is not believed; empty: it is
};

/// What a study of a file found.
struct Findings {
  std::vector<Drafted> drafts;  ///< the likeliest first
  /// Whether nothing more needs to be looked for.
  bool certain() const;
  bool solved() const { return !drafts.empty() && drafts.front().dropped.empty(); }
};

/// Looks for an index in the file. `same` tells how many of the first bytes are the same in all files of its
/// kind that are at hand.
Findings study(const Subject& subject, std::size_t same, OpenContext& context);

}  // namespace operculum::study
