#include "report/collection_records.h"

#include <fmt/format.h>

#include "base/text.h"
#include "report/json_fields.h"
#include "report/order_text.h"

namespace operculum {

Shown json_line(const Difference& difference) {
  Json record = {{"record", "difference"},
                 {"kind", name_of(difference.kind)},
                 {"path", escape(difference.path)},
                 {"entry", name_of(difference.entry)}};
  add_text(record, "new_path", difference.new_path);
  if (difference.kind != Difference::Kind::added) add_size(record, "before_size", difference.before_size);
  if (difference.kind != Difference::Kind::removed) add_size(record, "after_size", difference.after_size);
  for (const MetadataChange& change : difference.metadata)
    record["metadata"][std::string(change.what)] = {escape(change.before), escape(change.after)};
  if (difference.text)
    record["text"] = {{"added", difference.text->added},
                      {"removed", difference.text->removed},
                      {"diff", unified(*difference.text)}};
  if (difference.bytes) {
    record["bytes"] = {{"differing", difference.bytes->differing}, {"ranges", difference.bytes->range_count}};
    for (const ByteDiff::Range& range : difference.bytes->ranges)
      record["bytes"]["first_ranges"].push_back({range.begin, range.end});
  }
  add_text(record, "message", difference.message);
  return line_of(record);
}

Shown json_line(const CompareTotals& totals) {
  return line_of({{"record", "totals"},
                  {"same", totals.same},
                  {"changed", totals.changed},
                  {"moved", totals.moved},
                  {"added", totals.added},
                  {"removed", totals.removed},
                  {"unreadable", totals.unreadable},
                  {"metadata", totals.metadata},
                  {"order_differs", totals.order_differs}});
}

Shown json_line(const FoundFile& file) {
  Json record = {{"record", "find"}, {"locator", escape(file.locator)}, {"target", escape(file.target)}};
  add_text(record, "path", file.path);
  record["kind"] = name_of(file.kind);
  add_size(record, "size", file.size);
  add_time(record, "time", file.modified);
  for (const ContentHit& hit : file.hits) {
    Json one = {{"at", hit.at}};
    if (hit.line > 0) one["line"] = hit.line;
    add_text(one, "encoding", hit.encoding);
    add_text(one, hit.encoding.empty() ? "bytes" : "text", hit.excerpt);
    record["hits"].push_back(std::move(one));
  }
  return line_of(record);
}

Shown json_line(const FileVersions& file, const FileVersion& version) {
  Json record = {{"record", "version"}, {"name", escape(file.name)}};
  record["newest"] = &version == &file.versions.front();
  add_time(record, "time", version.modified);
  record["size"] = version.size;
  record["sha256"] = version.sha256;
  for (const std::string& copy : version.copies) record["copies"].push_back(escape(copy));
  return line_of(record);
}

Shown json_line(const FindTotals& totals) {
  return line_of({{"record", "totals"},
                  {"found", totals.found},
                  {"targets", totals.targets},
                  {"targets_with", totals.targets_with},
                  {"unreadable", totals.unreadable}});
}

Shown json_line(const LoadingOrder& order, const ProvidedPath& path) {
  Json record = {{"record", "path"},
                 {"path", escape(path.path)},
                 {"winner", escape(order.packs()[path.winner().pack].target)}};
  for (const Provider& one : path.providers) {
    Json provider = {{"pack", escape(order.packs()[one.pack].target)}, {"path", escape(one.item->path)}};
    add_size(provider, "size", one.item->entry->size);
    add_time(provider, "time", one.item->entry->modified);
    if (one.item->crc32) provider["crc32"] = fmt::format("{:08x}", *one.item->crc32);
    provider["standing"] = &one == &path.winner() ? "wins" : name_of(one.standing);
    record["packs"].push_back(std::move(provider));
  }
  return line_of(record);
}

Shown json_line(const LoadedPack& pack, std::size_t place) {
  Json record = {{"record", "pack"}, {"loaded", place + 1}, {"target", escape(pack.target)}};
  if (pack.format != nullptr) record["format"] = pack.format->id;
  add_text(record, "message", pack.error);
  record["files"] = pack.files;
  record["wins"] = pack.wins;
  record["hidden"] = pack.hidden;
  record["hidden_same"] = pack.hidden_same;
  record["outside"] = pack.outside;
  return line_of(record);
}

Shown json_line(const CatalogueTotals& totals) {
  return line_of({{"record", "totals"},
                  {"files", totals.files},
                  {"unchanged", totals.unchanged},
                  {"read", totals.read},
                  {"verified", totals.verified},
                  {"gone", totals.gone},
                  {"faulty", totals.faulty},
                  {"entries", totals.entries},
                  {"complete", !totals.stopped}});
}

Shown json_line(const std::string& catalogue, const MergeTotals& totals) {
  return line_of({{"record", "merged"},
                  {"catalogue", escape(catalogue)},
                  {"files", totals.files},
                  {"kept", totals.kept},
                  {"entries", totals.entries}});
}

Shown json_line(const Overview& overview) {
  Json record = {{"record", "overview"},
                 {"files", overview.files},
                 {"bytes", overview.bytes},
                 {"gone", overview.gone},
                 {"unfinished", overview.unfinished},
                 {"entries", overview.entries},
                 {"unpacked", overview.unpacked},
                 {"verified", overview.verified},
                 {"faulty", overview.faulty_count},
                 {"duplicate_contents", overview.duplicate_contents},
                 {"duplicate_cost", overview.duplicate_cost}};
  auto rows = [&](const char* field, const std::vector<OverviewRow>& all) {
    for (const OverviewRow& row : all)
      record[field].push_back({{"name", escape(row.name)}, {"count", row.count}, {"bytes", row.bytes}});
  };
  rows("formats", overview.formats);
  rows("unknown", overview.unknown);
  for (const OverviewDuplicate& one : overview.duplicates) {
    Json duplicate = {{"size", one.size}, {"copies", one.copies}, {"cost", one.cost()}};
    for (const std::string& place : one.places) duplicate["places"].push_back(escape(place));
    record["duplicates"].push_back(std::move(duplicate));
  }
  auto files = [&](const char* field, const std::vector<OverviewFile>& all) {
    for (const OverviewFile& file : all) {
      Json one = {{"path", escape(file.path)}, {"size", file.size}};
      add_text(one, "state", file.state);
      add_text(one, "message", file.message);
      if (file.modified != 0) add_time(one, "time", from_unix(file.modified));
      record[field].push_back(std::move(one));
    }
  };
  files("faulty_files", overview.faulty);
  files("largest", overview.largest);
  files("newest", overview.newest);
  return line_of(record);
}

}  // namespace operculum
