#pragma once

#include "task/rebuild.h"

namespace operculum {

/// What is packed, in which form, and where it goes.
struct PackRequest {
  std::string folder;  ///< or a file
  std::string as;      ///< formats from the inside out, with dots between: "zip", "tar.xz"
  PackChoice choice;
  std::string into;  ///< a file that is not there yet
  bool dry_run = false;
};

/// Makes a new container of what is in a folder. The same input gives the same bytes: entries go by their
/// paths, and times are those on disk, or SOURCE_DATE_EPOCH where they are later. Throws Error; nothing is
/// left then.
RebuildResult pack(const PackRequest& request, OpenContext& context, Progress& progress);

/// A file name in `folder` that sorts in front of, or behind, all that are there, made of `name`; and why,
/// for a person.
struct ChosenName {
  std::string name, reason;
};
/// Which end of a loading folder a name is to sort at.
enum class Among { first, last };
ChosenName name_among(const std::string& folder, const std::string& name, Among among);

}  // namespace operculum
