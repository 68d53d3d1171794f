#pragma once

#include "container/rewrite.h"
#include "layout/described_container.h"

namespace operculum::layout {

/// A decoded part of a described file, laid open behind it so that it can be changed as the file's own bytes
/// are.
struct OpenedPart {
  std::size_t ordinal = 0;           ///< of all parts that the description decodes
  std::uint64_t at = 0, length = 0;  ///< in DescribedFile::source
};

/// A described container that is to be written again.
struct DescribedFile {
  std::shared_ptr<const Plan> plan;
  Input input;
  SourcePtr source;  ///< the file; behind it, with a gap in front of each, the parts that are laid open
  OpenContext* context;
  std::optional<std::uint64_t> end = {};  ///< of the file, where parts follow
  std::vector<OpenedPart> parts = {};     ///< in the order in which they lie

  std::uint64_t size() const { return end.value_or(source->size()); }  ///< of the file, in bytes
  /// The part that an offset lies in or right behind; null in the file.
  const OpenedPart* part_at(std::uint64_t at) const;
};

/// A described container as it is written, with its parts behind it.
struct Made {
  Assembly bytes;
  std::uint64_t size = 0;  ///< of the file
  std::vector<OpenedPart> parts = {};
};

/// The container with changes: contents, and rows of tables (row_change.h). A description says how to read;
/// the way back is found by looking: which numbers of the file are read to find an entry's bytes, and what
/// changes when one of them does. Those are set anew (offsets, lengths, sizes, checksums, sizes of parts and
/// of the file), what lies behind is moved, or the new content goes to the end; the result is read by the
/// same description and compared before it is given back. Throws Unsupported, with what was missing, where
/// that cannot be made to fit.
Assembly rewrite_described(const DescribedFile& file, const Changes& changes, const Writing& writing);

}  // namespace operculum::layout
