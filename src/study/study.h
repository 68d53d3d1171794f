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
  double score = 0;          ///< the higher, the better
  std::string dropped;       ///< why it is not believed; empty: it is
  std::size_t fits = 0;      ///< how many other files of the kind it opens whole, too
  std::string learned_from;  ///< the one of them that it was found out from; empty: from the file itself
};

/// What a study of a file found.
struct Findings {
  std::vector<Drafted> drafts;  ///< the likeliest first
  /// Whether nothing more needs to be looked for.
  bool certain() const;
  bool solved() const { return !drafts.empty() && drafts.front().dropped.empty(); }
};

/// What is at hand for a study.
struct Material {
  NamedFile file;
  std::size_t same = 0;             ///< how many of the first bytes are the same in all files of its kind
  std::vector<NamedFile> kin = {};  ///< others of its kind
  std::function<std::vector<NamedFile>()> beside = {};  ///< opens the files beside it, when they are needed
  std::vector<std::uint64_t> anchors =
      {};  ///< where something begins that is recognised by itself, ascending
};

/// Looks for an index in the file, and where there is none, in the files beside it, or for its data in them.
Findings study(const Material& material, OpenContext& context);

}  // namespace operculum::study
