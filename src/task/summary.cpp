#include "task/summary.h"

namespace operculum {
namespace {

void add(Tally& tally, const std::string& path, std::uint64_t bytes) {
  ++tally.count;
  tally.bytes += bytes;
  if (bytes >= tally.largest_bytes) {
    tally.largest = path;
    tally.largest_bytes = bytes;
  }
}

}  // namespace

Summary summarise(const Place& place, const ListRequest& request, OpenContext& context,
                  const FindingSink& findings) {
  Summary summary;
  WalkEvents events = telling(findings);
  events.found = [&](const Found& found) {
    const Entry& entry = found.entry;
    if (!request.selection.wants(found.path)) return true;
    summary.counts.add(entry);
    if (!entry.has_data()) return true;
    std::uint64_t bytes = entry.size_known() ? entry.size : 0;
    std::size_t slash = found.path.find('/');
    add(summary.all, found.path, bytes);
    add(summary.by_folder[slash == std::string::npos ? "." : found.path.substr(0, slash)], found.path, bytes);
    add(summary.by_kind[std::string(found.kind)], found.path, bytes);
    if (entry.stored_size != Entry::kUnknownSize) summary.stored_bytes += entry.stored_size;
    return true;
  };
  walk(place, context, {.deep = request.deep, .programs = request.programs, .kinds = true}, events);
  return summary;
}

}  // namespace operculum
