#pragma once

#include "layout/described_container.h"
#include "layout/rewrite/extents.h"

namespace operculum::layout {

struct DescribedFile;

/// What a description makes of bytes that may be the beginning of a container.
struct Reading {
  Bytes bytes;
  Recorder reads;  ///< as far as it came
  Compared compared;
  bool opened = false;                 ///< all that stands above the entries was read
  bool complete = false;               ///< and all entries were listed, without a fault but for sums
  bool cut_short = false;              ///< more bytes were expected
  bool endless = false;                ///< a guard stopped it
  std::string obstacle;                ///< why it is not complete
  std::size_t files = 0;               ///< entries that are files and have data
  std::string path;                    ///< of the first file
  EntryLook look;                      ///< at the first file
  std::optional<Extent> data;          ///< of the first file
  std::vector<DifferingCheck> checks;  ///< sums that do not hold: of the container and of the first file
  std::uint64_t overlap = 0;           ///< bytes that were read as two different things

  /// Grows with what was read.
  std::size_t steps() const;
  /// The line of the description and the obstacle, without its numbers.
  std::string kind_of_obstacle() const;
  /// Numbers that lie in different places, in the order in which they were read first.
  std::vector<NumberRead> numbers() const;
};

/// Bytes as a described file that was never written; `context` must outlive it.
DescribedFile file_of(const std::shared_ptr<const Plan>& plan, const Bytes& bytes, OpenContext& context);

/// Reads them. Throws what is no matter of the bytes: a key or a file beside them that is wanted.
Reading read_fresh(const std::shared_ptr<const Plan>& plan, Bytes bytes, OpenContext& context);

}  // namespace operculum::layout
