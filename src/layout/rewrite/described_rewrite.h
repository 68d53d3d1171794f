#pragma once

#include "container/rewrite.h"
#include "layout/described_container.h"

namespace operculum::layout {

/// A described container that is to be written again.
struct DescribedFile {
  std::shared_ptr<const Plan> plan;
  Input input;
  SourcePtr source;
  OpenContext& context;
};

/// The container with changes: contents, and rows of tables (row_change.h). A description says how to read;
/// the way back is found by looking: which numbers of the file are read to find an entry's bytes, and what
/// changes when one of them does. Those are set anew (offsets, lengths, sizes, checksums, sizes of parts and
/// of the file), what lies behind is moved, or the new content goes to the end; the result is read by the
/// same description and compared before it is given back. Throws Unsupported, with what was missing, where
/// that cannot be made to fit.
Assembly rewrite_described(const DescribedFile& file, const Changes& changes, const Writing& writing);

}  // namespace operculum::layout
