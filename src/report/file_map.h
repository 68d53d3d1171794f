#pragma once

#include <span>
#include <string>

#include "layout/coverage.h"
#include "report/drawing.h"
#include "study/hypothesis.h"
#include "study/profile.h"
#include "task/study_file.h"

namespace operculum {

/// What is drawn of a file from its first byte to its last.
struct FileMap {
  std::uint64_t size = 0;                   ///< bytes
  const study::Profile* profile = nullptr;  ///< how its bytes look
  std::span<const layout::CoverRange> covered =
      {};                                   ///< what a description makes of them; empty: nothing known
  std::span<const Recognised> inside = {};  ///< files that lie within it
};

/// The file from left to right: how its bytes look, how dense they are, what a description makes of them.
/// Alone it has a legend within.
Drawing map_drawing(const FileMap& map, Drawn drawn);

/// The first records of the index that was found, byte by byte, coloured by what each column means.
Drawing index_drawing(const study::Hypothesis& found, Drawn drawn);

/// What the colours mean: of looks, of coverage, of columns.
std::string look_legend(const FileMap& map);
std::string cover_legend();
std::string role_legend(const study::Hypothesis& found);

}  // namespace operculum
