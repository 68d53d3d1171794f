#pragma once

#include <array>
#include <span>

#include "base/facts.h"
#include "layout/coverage.h"
#include "layout/library.h"
#include "study/profile.h"
#include "task/finding_fold.h"

namespace operculum {

/// What a description makes of a container.
struct LayoutTrial {
  std::string target;
  std::uint64_t size = 0, entries = 0;
  std::string failure;  ///< why it cannot be opened; the fields read until then are there
  Facts facts;
  std::vector<FoldedFinding> findings;
  std::vector<layout::Tracer::Field> fields;
  std::uint64_t fields_left_out = 0;
  std::vector<layout::CoverRange> ranges;
  /// A file beside it that was read, too.
  struct OtherFile {
    std::string name;
    std::uint64_t size = 0;
    std::vector<layout::CoverRange> ranges;
  };
  std::vector<OtherFile> others;
  std::uint64_t compared = 0;  ///< of the first entries: those whose data and checksums are right
  study::Profile profile;      ///< how the bytes look; only where that was asked for
  SourcePtr file;              ///< the bytes themselves
  ContainerPtr container;      ///< what they hold; none where they cannot be opened
};

/// Whether a role of an entry rule can be written back into the container, for rebuilding it.
struct RoleBack {
  std::string rule;  ///< "line 30"
  std::string role;
  std::string fields;    ///< "Item.at, Item.stored"
  std::string obstacle;  ///< empty: it can
};
std::vector<RoleBack> roles_back(const layout::Plan& plan);

/// Bytes of each kind, in the order of CoverRange::Kind.
std::array<std::uint64_t, 5> bytes_by_kind(std::span<const layout::CoverRange> ranges);

/// By what a file is known to be of the described format, and what that means for one without its name or its
/// end: a sentence each.
std::vector<std::string> recognition_of(const layout::Plan& plan);

/// What is wanted of a trial.
struct TrialWishes {
  layout::TraceWish trace;
  bool profile = false;  ///< how the bytes look, which reads all of them
  std::string entry;     ///< only what is read for this entry: its path, or its number from 0 on
};

/// Opens the file or entry that `target` names with the plan, and notes every field read and what each byte
/// is for. Throws IoError, and what the layers around it throw.
LayoutTrial try_layout(const std::shared_ptr<const layout::Plan>& plan, const std::string& target,
                       const TrialWishes& wishes, OpenContext& context);

}  // namespace operculum
