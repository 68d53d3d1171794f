// A file of no known kind in which containers lie: firmware, memory dumps, packs of unknown layout. Finding
// them takes a look at every byte, so it is done only when it is asked for.
#include <fmt/format.h>

#include "base/error.h"
#include "container/embedded.h"
#include "container/ranges.h"
#include "format/package/formats.h"

namespace operculum {
namespace {

constexpr std::size_t kMost = 100'000;

Match recognise_searched(Probe& probe) {
  if (!probe.source()) return Match::none;
  OpenContext trial;
  return find_embedded(probe.source(), 0, probe.source()->size(), trial, {.most = 1, .deflate = true}).empty()
             ? Match::none
             : Match::inside;
}

ContainerPtr open_searched(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  std::vector<Embedded> found =
      find_embedded(bytes, 0, bytes->size(), context, {.most = kMost, .thorough = true, .deflate = true});
  if (found.empty()) throw Malformed("no container was found in it");
  std::vector<NamedRange> ranges;
  ranges.reserve(found.size());
  for (const Embedded& one : found) ranges.push_back({name_of(one), one.at, one.size});
  ContainerPtr container = make_ranges(bytes, ranges);
  if (found.size() == kMost)
    container->add_finding(Finding::Level::warning,
                           fmt::format("the search ended with the container number {}", kMost));
  if (const Embedded& last = found.back(); !last.end_stated && !last.format->single_stream)
    container->add_finding(Finding::Level::note,
                           fmt::format("{} does not state where it ends: the rest of the file is shown as "
                                       "part of it, and was not searched",
                                       name_of(last)));
  return container;
}

}  // namespace

Format searched_file_format() {
  return {.id = "searched",
          .name = "file with containers in it",
          .family = "package",
          .specification = "none",
          .reads = "containers that begin anywhere in a file of no known kind",
          .lacks = "",
          .suffixes = {},
          .carries = true,
          .recognise = recognise_searched,
          .open = open_searched};
}

}  // namespace operculum
