#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace operculum {

/// A file that a cue sheet names.
struct CueFile {
  std::string name, kind;  ///< kind: "BINARY", "MOTOROLA", "WAVE", ...
};

/// A track and where its sectors lie.
struct CueTrack {
  unsigned number = 0;
  std::string mode;  ///< "AUDIO", "MODE1/2352", ...
  std::size_t file = 0;
  std::uint64_t begin = 0;     ///< index 01, in sectors from the file's start
  std::uint64_t earliest = 0;  ///< the first index, mostly 00: where the gap in front begins
  std::string title, performer;
  bool has_begin = false;
};

/// A disc as its sheet describes it.
struct CueSheet {
  std::vector<CueFile> files;
  std::vector<CueTrack> tracks;
  std::string title, performer, catalogue;
};

/// Reads the text of a cue sheet (as the burning programs' published guides describe it). Throws Malformed
/// with the line at fault.
CueSheet parse_cue_sheet(std::string_view text);

}  // namespace operculum
