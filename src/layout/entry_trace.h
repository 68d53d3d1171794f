#pragma once

#include "layout/run/run.h"

namespace operculum::layout {

// What `layout check` shows besides what is read anyhow; all of it is told to the run's observer.

/// The elements that an entry is listed for, field by field, and each of its roles. `slots` are its
/// variables.
void show_entry(Run& run, const EntryPlan& rule, std::vector<Value>& slots);

/// The first records of each table: they are read when they are asked for, and are read once more for this.
void show_lists(Run& run);

}  // namespace operculum::layout
