#pragma once

#include "container/locator.h"
#include "container/parts.h"
#include "container/rewrite.h"

namespace operculum {

/// A container on the way to the one that is rebuilt, with random access to its bytes.
struct RebuildLayer {
  const Format* format;
  ContainerPtr container;  ///< the one that is written
  ContainerPtr shown;      ///< the one that was opened, which may show another tree of the same bytes
  SourcePtr source;        ///< its bytes
  std::string name;        ///< of the file or entry that it is
  std::size_t index = 0;   ///< of that entry in the layer around; of no use for the outermost
  Beside sibling = {};     ///< what lies beside it, on disk or in the container around
};

/// A layer, opened again where it was read as a stream; `sibling` is what lies beside it.
RebuildLayer prepare_layer(const Layer& layer, OpenContext& context, Beside sibling = {});

/// The layers of a place, opened again where they were read as a stream. Throws Unsupported where an entry
/// that leads inwards cannot be found among those that are written.
std::vector<RebuildLayer> prepare_layers(const Place& place, OpenContext& context);

/// A layer's bytes with changes, and what was asked of it.
struct PlannedLayer {
  Changes changes;
  bool trimmed = false;  ///< beside the changes, filling goes
  Assembly result;
  SourcePtr source;                ///< of the result
  std::vector<FileBeside> beside;  ///< further files that it consists of
  std::string name;                ///< that it will have; empty: as the layer's

  const std::string& name_in(const RebuildLayer& layer) const { return name.empty() ? layer.name : name; }
};

/// Adds to the changes of a layer, by its number, before it is planned.
using MoreChanges = std::function<void(std::size_t layer, Changes& changes)>;

/// Plans all layers from the innermost, which is to be as `innermost` says, outwards; in the order of
/// `layers`. Without an innermost plan nothing changes.
std::vector<PlannedLayer> plan_layers(const std::vector<RebuildLayer>& layers,
                                      std::optional<PlannedLayer> innermost, const Writing& writing,
                                      const MoreChanges& more = {});

/// A layer with changes; nothing when there are none. Throws Unsupported.
std::optional<PlannedLayer> plan_changes(const RebuildLayer& layer, Changes changes, const Writing& writing);

/// A layer without the filling that it does without, after the changes of `plan` where there is one; `plan`
/// itself when there is no filling.
std::optional<PlannedLayer> plan_trim(const RebuildLayer& layer, std::optional<PlannedLayer> plan,
                                      OpenContext& context);

}  // namespace operculum
