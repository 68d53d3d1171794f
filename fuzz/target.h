#pragma once

#include <functional>
#include <stdexcept>
#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::fuzz {

/// Something that any bytes are given to. It returns, whatever they are: an Error is a right answer and stays
/// within; everything else that is thrown, and every check of its own that fails (std::logic_error), is a
/// finding.
struct Target {
  std::string name;
  std::function<void(ByteView)> look;
};

/// A check that a target makes itself.
inline void must(bool holds, const char* what) {
  if (!holds) throw std::logic_error(what);
}

/// One for each format, and those for what is not one.
std::vector<Target> targets();

// What the targets are made of; a file each.
std::vector<Target> format_targets();
std::vector<Target> rewrite_targets();
std::vector<Target> codec_targets();
std::vector<Target> layout_targets();
std::vector<Target> text_targets();
std::vector<Target> server_targets();
std::vector<Target> report_targets();
std::vector<Target> command_line_targets();

}  // namespace operculum::fuzz
