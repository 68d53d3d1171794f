#pragma once

#include <functional>

#include "study/hypothesis.h"
#include "study/trial.h"

namespace operculum::study {

/// An explanation, written down and tried.
struct Drafted {
  Subject subject;
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

/// Looks for an index in the file, and where there is none, in the files beside it, or for its data in them.
/// `same` tells how many of the first bytes are the same in all files of its kind that are at hand; `beside`
/// opens the files beside it, when they are needed; `anchors` are where in the file something begins that is
/// recognised by itself, ascending.
Findings study(const NamedFile& file, std::size_t same, OpenContext& context,
               const std::function<std::vector<NamedFile>()>& beside = {},
               std::vector<std::uint64_t> anchors = {});

}  // namespace operculum::study
