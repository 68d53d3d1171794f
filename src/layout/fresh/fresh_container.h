#pragma once

#include "container/rewrite.h"
#include "layout/plan/plan.h"

namespace operculum::layout {

/// The path of the one file in a smallest container.
constexpr std::string_view kFreshName = "new";

/// A small container that a description reads, with one file of a few bytes in it. A description says how to
/// read, not how to write: the bytes are found by reading some that are not there yet, and giving the
/// description what it asks for. The same description gives the same bytes. Throws Unsupported, with what
/// stood in the way.
Bytes smallest_container(const std::shared_ptr<const Plan>& plan);

/// A new container of these entries by a description: the smallest one, whose row shows how those of the
/// entries have to be. What the description has of an entry beside path and content is 0. Throws Unsupported.
Assembly pack_described(const std::shared_ptr<const Plan>& plan, const std::vector<NewEntry>& entries,
                        const Writing& writing);

}  // namespace operculum::layout
