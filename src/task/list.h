#pragma once

#include "task/selection.h"
#include "task/walk.h"

namespace operculum {

/// Which entries are shown, and what is found out about each.
struct ListRequest {
  Selection selection;
  bool deep = false;
  bool programs = false;  ///< with deep, also into programs that carry containers
  bool kinds = false;     ///< decode the first bytes of each file to tell what it is
  bool contents = false;  ///< hand out each file's data with it
};

/// Visits the wanted entries of what `place` names, in stored order, without decoding their data (save what
/// nested containers need).
void list(const Place& place, const ListRequest& request, OpenContext& context,
          const std::function<void(const Found&)>& sink, const FindingSink& findings);

/// The same for nothing but their paths: much faster where a container has millions.
void list_paths(const Place& place, const ListRequest& request, OpenContext& context,
                const std::function<void(const std::string& path)>& sink, const FindingSink& findings);

}  // namespace operculum
