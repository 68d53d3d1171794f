#pragma once

#include "container/rewrite.h"
#include "layout/described_container.h"

namespace operculum::layout {

/// A file beside a described one, as it was.
struct OpenedFile {
  std::string name;
  SourcePtr before;
};

/// A decoded part of a described file, or files beside it, laid open behind it so that they can be changed as
/// the file's own bytes are. Files that the description joins are one part: what grows in one of them runs on
/// into the next, and all but the last keep their sizes.
struct OpenedPart {
  std::size_t ordinal = 0;             ///< of all parts that the description decodes
  std::vector<OpenedFile> files = {};  ///< none: a decoded part
  std::uint64_t at = 0, length = 0;    ///< in DescribedFile::source

  bool is_file() const { return !files.empty(); }
  /// Where each file begins in DescribedFile::source, and behind them where the last one ends.
  std::vector<std::uint64_t> cuts() const;
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
