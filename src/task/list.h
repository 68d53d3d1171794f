#pragma once

#include "task/selection.h"
#include "task/walk.h"

namespace operculum {

struct ListRequest {
  Selection selection;
  bool deep = false;
  Detail detail = Detail::all;
};

/// What a listing tells beside entries: findings, and nested containers that could not be entered.
using FindingSink = std::function<void(const std::string& path, const Finding&)>;

/// Visits the wanted entries of what `place` names, in stored order, without decoding their data (save what
/// nested containers need).
void list(const Place& place, const ListRequest& request, OpenContext& context,
          const std::function<void(const Found&)>& sink, const FindingSink& findings);

}  // namespace operculum
