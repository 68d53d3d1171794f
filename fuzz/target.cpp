#include "fuzz/target.h"

namespace operculum::fuzz {

std::vector<Target> targets() {
  std::vector<Target> all;
  for (auto make : {format_targets, rewrite_targets, codec_targets, layout_targets, text_targets,
                    server_targets, report_targets, command_line_targets}) {
    for (Target& target : make()) all.push_back(std::move(target));
  }
  return all;
}

}  // namespace operculum::fuzz
