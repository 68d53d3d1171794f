#pragma once

#include "task/layout_check.h"

namespace operculum {

/// What a description that is nearly right leaves open in a container, with what could be done about it.
struct LayoutReview {
  /// Bytes that the description does not explain.
  struct OpenRange {
    std::uint64_t begin, end;  ///< offsets in the container
    study::Look look;
    std::string begins_like;  ///< in words, a guess; empty: like nothing that is known
    std::string told_by;      ///< a field that was read and holds its begin; empty: there is none
  };
  /// A field of many records that no role of an entry uses.
  struct OpenField {
    std::string name;  ///< "items[].unknown_1"
    std::uint64_t size = 0, records = 0, distinct = 0, least = 0, most = 0;
    std::string idea;  ///< what it could be, in words; empty: there is none
  };
  /// Entries that cannot be read for the same reason.
  struct Failing {
    std::string why, first;  ///< the path of the first
    std::uint64_t entries = 0;
  };

  LayoutTrial trial;
  std::uint64_t read = 0;         ///< entries that were read on trial
  std::vector<OpenRange> ranges;  ///< the largest first
  std::vector<OpenField> fields;
  std::vector<Failing> failing;  ///< the commonest first
};

/// Opens what `target` names with the plan and looks at what is left; `profile` asks for the trial's, too.
/// Throws IoError, and what the layers around it throw.
LayoutReview review_layout(const std::shared_ptr<const layout::Plan>& plan, const std::string& target,
                           bool profile, OpenContext& context);

}  // namespace operculum
