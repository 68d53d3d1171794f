#pragma once

#include <span>
#include <string>

#include "layout/coverage.h"
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

/// A drawing that stands in a page of ours, or alone in a file, which then needs nothing else.
enum class Drawn { in_page, alone };

/// The file from left to right: how its bytes look, how dense they are, what a description makes of them.
std::string file_map_svg(const FileMap& map, Drawn drawn);

/// The first records of the index that was found, byte by byte, coloured by what each column means.
std::string index_svg(const study::Hypothesis& found, Drawn drawn);

/// Colours for a page that holds such drawings.
std::string_view drawing_style();

/// What the colours mean: of looks, of coverage, of columns.
std::string look_legend(const FileMap& map);
std::string cover_legend();
std::string role_legend(const study::Hypothesis& found);

}  // namespace operculum
