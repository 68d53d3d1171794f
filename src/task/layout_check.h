#pragma once

#include <array>

#include "layout/coverage.h"
#include "layout/library.h"
#include "study/profile.h"

namespace operculum {

/// What a description makes of a container.
struct LayoutTrial {
  std::string target;
  std::uint64_t size = 0, entries = 0;
  std::string failure;  ///< why it cannot be opened; the fields read until then are there
  std::vector<std::pair<std::string, std::string>> facts;
  std::vector<Finding> findings;
  std::vector<layout::Tracer::Field> fields;
  std::uint64_t fields_left_out = 0;
  std::vector<layout::CoverRange> ranges;
  study::Profile profile;  ///< how the bytes look; only where that was asked for
  SourcePtr file;          ///< the bytes themselves
  ContainerPtr container;  ///< what they hold; none where they cannot be opened
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
std::array<std::uint64_t, 5> bytes_by_kind(const LayoutTrial& trial);

/// What is wanted of a trial.
struct TrialWishes {
  layout::TraceWish trace;
  bool profile = false;  ///< how the bytes look, which reads all of them
};

/// Opens the file or entry that `target` names with the plan, and notes every field read and what each byte
/// is for. Throws IoError, and what the layers around it throw.
LayoutTrial try_layout(const std::shared_ptr<const layout::Plan>& plan, const std::string& target,
                       const TrialWishes& wishes, OpenContext& context);

}  // namespace operculum
