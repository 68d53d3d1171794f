#include "task/summary.h"

#include "task/kinds.h"

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

/// The kind of an entry's data; a word for the reason when it cannot be read.
std::string kind_of(const Found& found, KindReader& kinds) {
  Bytes head(kKindHead);
  try {
    if (found.stream != nullptr) {
      head.resize(read_fully(*found.stream, head));
    } else {
      head.resize(read_fully(*found.content->stream(), head));
    }
  } catch (const Error& error) {
    return error.kind() == ErrorKind::needs_key ? "encrypted" : "unreadable";
  }
  return std::string(kinds.kind_of(head, found.path));
}

}  // namespace

Summary summarise(const Place& place, const ListRequest& request, OpenContext& context,
                  const FindingSink& findings) {
  Summary summary;
  KindReader kinds;
  WalkEvents events = telling(findings);
  events.found = [&](const Found& found) {
    const Entry& entry = found.entry;
    if (!request.selection.wants(found.path)) return true;
    if (!entry.has_data()) {
      ++(entry.kind == EntryKind::folder ? summary.folders : summary.links);
      return true;
    }
    std::uint64_t bytes = entry.size_known() ? entry.size : 0;
    std::size_t slash = found.path.find('/');
    add(summary.all, found.path, bytes);
    add(summary.by_folder[slash == std::string::npos ? "." : found.path.substr(0, slash)], found.path, bytes);
    add(summary.by_kind[kind_of(found, kinds)], found.path, bytes);
    if (entry.stored_size != Entry::kUnknownSize) summary.stored_bytes += entry.stored_size;
    return true;
  };
  walk(place.layers.back(), place.layers.size() == 1 ? place.file_source : nullptr, context, {request.deep},
       events);
  return summary;
}

}  // namespace operculum
