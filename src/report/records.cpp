#include "report/records.h"

#include <fmt/format.h>

#include "base/text.h"
#include "report/json_fields.h"

namespace operculum {
namespace {

Json finding_json(const Finding& finding) {
  return {{"record", name_of(finding.level)}, {"message", finding.text}};
}

/// A name that has several values has them in an array.
void add_facts(Json& record, const Facts& facts) {
  for (const auto& [name, value] : facts) {
    Json& field = record["facts"][name];
    if (field.is_null()) {
      field = escape(value);
    } else {
      if (!field.is_array()) field = Json::array({field});
      field.push_back(escape(value));
    }
  }
}

Json tally_json(const Tally& tally) {
  return {{"count", tally.count},
          {"bytes", tally.bytes},
          {"largest", escape(tally.largest)},
          {"largest_bytes", tally.largest_bytes}};
}

Json layer_json(const IdentifiedLayer& layer) {
  Json record = {{"format", layer.format->id}, {"name", layer.format->name}, {"in", escape(layer.name)}};
  add_size(record, "stored", layer.stored_size);
  if (layer.counts) {
    record["files"] = layer.counts->files;
    record["folders"] = layer.counts->folders;
    record["links"] = layer.counts->links;
    record["devices"] = layer.counts->devices;
    record["encrypted"] = layer.encrypted;
    if (layer.sizes_known) record["unpacked"] = layer.counts->bytes;
    add_text(record, "largest", layer.largest);
    if (!layer.largest.empty()) record["largest_bytes"] = layer.largest_bytes;
  }
  add_facts(record, layer.facts);
  for (const Finding& finding : layer.findings) record["findings"].push_back(finding_json(finding));
  for (const IdentifiedPart& part : layer.parts) {
    Json one = {{"path", part.path}, {"size", part.size}};
    add_text(one, "name", part.name);
    add_text(one, "type", part.type);
    if (!part.format.empty()) one["format"] = part.format;
    add_facts(one, part.facts);
    for (const Finding& finding : part.findings) one["findings"].push_back(finding_json(finding));
    record["parts"].push_back(std::move(one));
  }
  for (const IdentifiedRecord& shown : layer.records) {
    Json one = {{"name", shown.name}, {"at", shown.at}};
    for (const FieldRow& row : shown.rows)
      one["fields"].push_back(
          {{"name", row.name}, {"at", row.at}, {"bytes", row.width}, {"value", escape(row.value)}});
    record["records"].push_back(std::move(one));
  }
  return record;
}

Json region_json(const Region& region) {
  Json record = {{"at", region.at}, {"size", region.size}};
  add_text(record, "path", region.path);
  add_text(record, "what", region.what);
  add_text(record, "note", region.note);
  if (region.gap) record["gap"] = true;
  for (const Region& one : region.inner) record["inner"].push_back(region_json(one));
  return record;
}

}  // namespace

std::string_view name_of(Finding::Level level) {
  return level == Finding::Level::note ? "note" : level == Finding::Level::warning ? "warning" : "fault";
}

std::string_view name_of(UnpackEvent::Kind kind) {
  switch (kind) {
    case UnpackEvent::Kind::file:
      return "file";
    case UnpackEvent::Kind::folder:
      return "folder";
    case UnpackEvent::Kind::link:
      return "link";
    case UnpackEvent::Kind::device:
      return "device";
    case UnpackEvent::Kind::kept:
      return "kept";
    case UnpackEvent::Kind::left_out:
      return "left-out";
    case UnpackEvent::Kind::failed:
      return "failed";
    case UnpackEvent::Kind::note:
      return "note";
    case UnpackEvent::Kind::warning:
      return "warning";
    case UnpackEvent::Kind::fault:
      return "fault";
  }
  return "unknown";
}

std::string_view name_of(Fate::Kind kind) {
  switch (kind) {
    case Fate::Kind::changed:
      return "changed";
    case Fate::Kind::added:
      return "added";
    case Fate::Kind::removed:
      return "removed";
    default:
      return "renamed";
  }
}

std::string_view name_of(DiscardEvent::Kind kind) {
  switch (kind) {
    case DiscardEvent::Kind::removed:
      return "removed";
    case DiscardEvent::Kind::changed:
      return "changed";
    case DiscardEvent::Kind::missing:
      return "missing";
    case DiscardEvent::Kind::failed:
      return "failed";
    case DiscardEvent::Kind::returned:
      return "returned";
  }
  return "unknown";
}

std::vector<std::string_view> flag_words(const Entry& entry) {
  std::vector<std::string_view> words;
  if (entry.is(Entry::encrypted)) words.push_back("encrypted");
  if (entry.is(Entry::sparse)) words.push_back("sparse");
  if (entry.is(Entry::damaged)) words.push_back("damaged");
  if (entry.is(Entry::recovered)) words.push_back("recovered");
  return words;
}

Shown json_line(const Found& found, const std::string& container, const std::string& sum,
                const std::string& digest) {
  const Entry& entry = found.entry;
  Json record = {{"record", "entry"}};
  add_text(record, "container", container);
  record["path"] = escape(found.path);
  record["kind"] = name_of(entry.kind);
  if (!digest.empty()) record[sum] = digest;
  if (entry.has_data()) {
    add_size(record, "size", entry.size);
    add_size(record, "stored", entry.stored_size);
    record["method"] = entry.method;
  }
  add_time(record, "time", entry.modified);
  if (entry.mode != Entry::kNoMode) record["mode"] = fmt::format("{:04o}", entry.mode);
  if (entry.is(Entry::has_crc) && entry.has_data()) record["crc32"] = fmt::format("{:08x}", entry.crc32);
  if (auto words = flag_words(entry); !words.empty()) record["flags"] = words;
  record["format"] = found.format.id;
  if (!found.kind.empty()) record["content"] = found.kind;
  if (entry.extra) {
    const EntryExtra& extra = *entry.extra;
    add_text(record, "link_target", extra.link_target);
    add_text(record, "owner", extra.owner);
    add_text(record, "group", extra.group);
    record["user_id"] = extra.user_id;
    record["group_id"] = extra.group_id;
    add_text(record, "comment", extra.comment);
    add_text(record, "type", extra.type_tag);
    add_time(record, "accessed", extra.accessed);
    add_time(record, "changed", extra.changed);
    add_time(record, "created", extra.created);
    for (const auto& [name, value] : extra.attributes) record["attributes"][escape(name)] = escape(value);
  }
  return line_of(record);
}

Shown json_line(const Identification& identification) {
  Json record = {{"record", "identification"}, {"target", escape(identification.target)}};
  add_size(record, "size", identification.size);
  record["layers"] = Json::array();
  for (const IdentifiedLayer& layer : identification.layers) record["layers"].push_back(layer_json(layer));
  add_text(record, "origin", identification.origin);
  add_text(record, "kind", identification.kind);
  add_text(record, "media_type", identification.media_type);
  add_text(record, "description", identification.description);
  for (const auto& [name, value] : identification.volume)
    record["volume"].push_back({{"name", name}, {"value", escape(value)}});
  if (identification.map) {
    for (const Region& one : identification.map->regions) record["map"].push_back(region_json(one));
    for (const std::string& one : identification.map->versions) record["versions"].push_back(escape(one));
  }
  for (std::string_view other : identification.also) record["also"].push_back(other);
  for (const IdentifiedClaim& claim : identification.claims)
    record["claims"].push_back({{"format", claim.format->id}, {"reason", claim.reason}});
  for (const std::string& sentence : identification.near_claims)
    record["near_claims"].push_back(escape(sentence));
  for (const Finding& finding : identification.findings) record["findings"].push_back(finding_json(finding));
  add_text(record, "suggestion", identification.suggestion);
  return line_of(record);
}

Shown json_line(const UnpackEvent& event) {
  Json record = {{"record", name_of(event.kind)}, {"path", escape(event.path)}};
  add_text(record, "output", event.output);
  if (event.kind == UnpackEvent::Kind::file) record["size"] = event.size;
  add_text(record, "sha256", event.sha256);
  add_text(record, "replaced", event.replaced);
  add_text(record, "message", event.message);
  if (event.kind == UnpackEvent::Kind::failed) record["error"] = name_of(event.error);
  return line_of(record);
}

Shown json_line(const UnpackTotals& totals, bool dry_run) {
  return line_of({{"record", "totals"},
                  {"dry_run", dry_run},
                  {"files", totals.files},
                  {"folders", totals.folders},
                  {"links", totals.links},
                  {"devices", totals.devices},
                  {"bytes", totals.bytes},
                  {"kept", totals.kept},
                  {"left_out", totals.left_out},
                  {"failed", totals.failed},
                  {"faults", totals.faults},
                  {"stopped", totals.stopped}});
}

Shown json_line(const Fault& fault) {
  Json record = {{"record", name_of(fault.level)}};
  add_text(record, "path", fault.path);
  record["message"] = escape(fault.message);
  if (fault.level == Finding::Level::fault) record["error"] = name_of(fault.error);
  return line_of(record);
}

Shown json_digest_line(const std::string& target, const std::string& published, const std::string& computed) {
  return line_of({{"record", "digest"},
                  {"target", escape(target)},
                  {"published", published},
                  {"sha256", computed},
                  {"same", published == computed}});
}

Shown json_line(const VerifyTotals& totals) {
  return line_of({{"record", "totals"},
                  {"files", totals.entries},
                  {"bytes", totals.bytes},
                  {"with_checksum", totals.with_checksum},
                  {"failed", totals.failed},
                  {"faults", totals.faults},
                  {"warnings", totals.warnings}});
}

Shown json_line(const Summary& summary, const std::string& container) {
  Json record = {{"record", "summary"}};
  add_text(record, "container", container);
  record["files"] = tally_json(summary.all);
  record["folders"] = summary.counts.folders;
  record["links"] = summary.counts.links;
  record["devices"] = summary.counts.devices;
  record["stored"] = summary.stored_bytes;
  record["by_kind"] = record["by_folder"] = Json::object();
  for (const auto& [kind, tally] : summary.by_kind) record["by_kind"][kind] = tally_json(tally);
  for (const auto& [folder, tally] : summary.by_folder)
    record["by_folder"][escape(folder)] = tally_json(tally);
  return line_of(record);
}

Shown json_line(const Format& format) {
  return line_of({{"record", "format"},
                  {"format", format.id},
                  {"name", format.name},
                  {"family", format.family},
                  {"specification", format.specification},
                  {"reads", format.reads},
                  {"lacks", format.lacks},
                  {"writes", format.writes},
                  {"views", format.views},
                  {"endings", format.suffixes}});
}

Shown json_line(const PackageReport& report) {
  Json about = Json::object(), actions = Json::array(), places = Json::array(), registry = Json::array(),
       shortcuts = Json::array(), findings = Json::array();
  for (const auto& [name, value] : report.plan.about) about[name] = escape(value);
  for (const InstallAction& action : report.plan.actions) {
    actions.push_back({{"kind", name_of(action.kind)},
                       {"name", escape(action.name)},
                       {"when", escape(action.when)},
                       {"command", escape(action.command)},
                       {"text", escape(action.text)}});
  }
  for (const InstalledPlace& place : report.places) {
    Json items = Json::array();
    for (const InstalledItem& item : place.items) {
      Json one = {{"path", escape(item.path)}, {"kind", name_of(item.kind)}};
      if (item.kind == EntryKind::file) one["size"] = item.size;
      if (item.mode != Entry::kNoMode) one["mode"] = fmt::format("{:04o}", item.mode);
      if (!item.owner.empty()) one["owner"] = escape(item.owner);
      if (item.configuration) one["configuration"] = true;
      if (!item.link_target.empty()) one["link_target"] = escape(item.link_target);
      items.push_back(std::move(one));
    }
    places.push_back({{"place", escape(place.place)},
                      {"files", place.files},
                      {"bytes", place.bytes},
                      {"items", std::move(items)}});
  }
  for (const RegistryValue& value : report.plan.registry)
    registry.push_back(
        {{"key", escape(value.key)}, {"name", escape(value.name)}, {"value", escape(value.value)}});
  Json writes = Json::array();
  for (const MemoryWrite& write : report.plan.writes)
    writes.push_back({{"to", escape(write.to)}, {"from", escape(write.from)}, {"bytes", write.size}});
  for (const Shortcut& shortcut : report.plan.shortcuts)
    shortcuts.push_back({{"path", escape(shortcut.path)}, {"target", escape(shortcut.target)}});
  for (const Finding& finding : report.findings)
    findings.push_back({{"level", name_of(finding.level)}, {"text", finding.text}});
  auto escaped = [](const std::vector<std::string>& lines) {
    Json all = Json::array();
    for (const std::string& line : lines) all.push_back(escape(line));
    return all;
  };
  return line_of({{"record", "install"},
                  {"target", escape(report.target)},
                  {"format", report.format},
                  {"about", std::move(about)},
                  {"files", report.files},
                  {"bytes", report.bytes},
                  {"on_disk", report.on_disk},
                  {"actions", std::move(actions)},
                  {"places", std::move(places)},
                  {"registry", std::move(registry)},
                  {"shortcuts", std::move(shortcuts)},
                  {"writes", std::move(writes)},
                  {"needs", escaped(report.plan.needs)},
                  {"notes", escaped(report.plan.notes)},
                  {"removal", escaped(report.removal)},
                  {"undo", escaped(report.undo)},
                  {"effects", escaped(report.effects)},
                  {"findings", std::move(findings)}});
}

Shown json_line(const Finding& finding) {
  return line_of(finding_json(finding));
}

Shown json_line(const DiscardEvent& event) {
  Json record = {{"record", name_of(event.kind)}, {"path", escape(event.path)}};
  add_text(record, "message", event.message);
  return line_of(record);
}

Shown json_line(const DiscardTotals& totals, bool dry_run) {
  return line_of({{"record", "totals"},
                  {"dry_run", dry_run},
                  {"removed", totals.removed},
                  {"changed", totals.changed},
                  {"missing", totals.missing},
                  {"returned", totals.returned},
                  {"failed", totals.failed}});
}

Shown json_line(const Fate& fate, bool dry_run) {
  Json record = {{"record", name_of(fate.kind)}, {"path", escape(fate.path)}, {"dry_run", dry_run}};
  if (!fate.new_path.empty()) record["new_path"] = escape(fate.new_path);
  if (fate.old_size != Entry::kUnknownSize) record["old_size"] = fate.old_size;
  if (fate.new_size != Entry::kUnknownSize) record["new_size"] = fate.new_size;
  for (const std::string& note : fate.notes) record["notes"].push_back(escape(note));
  return line_of(record);
}

Shown json_line(const RebuildResult& result, bool dry_run) {
  Json record = {
      {"record", "totals"},          {"dry_run", dry_run},          {"kept_entries", result.kept_entries},
      {"old_size", result.old_size}, {"new_size", result.new_size}, {"kept_bytes", result.kept_bytes},
      {"compared", result.compared}};
  if (result.trimmed > 0) record["trimmed_bytes"] = result.trimmed;
  if (!result.written.empty()) record["written"] = escape(result.written);
  if (!result.original.empty()) record["original"] = escape(result.original);
  for (const WrittenFile& file : result.beside) record["beside"].push_back(escape(file.path));
  return line_of(record);
}

Shown json_line(const layout::Description& description, const layout::Problem& problem) {
  auto place = description.place_of(problem.where.at);
  Json record = {{"record", problem.level == layout::Problem::Level::error ? "error" : "warning"},
                 {"file", escape(description.name)},
                 {"line", place.line},
                 {"column", place.column},
                 {"message", problem.text}};
  if (!problem.hint.empty()) record["hint"] = problem.hint;
  return line_of(record);
}

Shown json_line(const layout::Tracer::Field& field) {
  Json record = {{"record", "field"}, {"name", escape(field.name)}, {"value", field.value}};
  if (field.offset) {
    record["offset"] = *field.offset;
    record["size"] = field.size;
    record["raw"] = field.raw;
  }
  add_text(record, "in", field.region);
  return line_of(record);
}

Shown json_line(const layout::CoverRange& range) {
  return line_of({{"record", "range"},
                  {"kind", layout::name_of(range.kind)},
                  {"begin", range.begin},
                  {"end", range.end}});
}

Shown json_line(const FoldedFinding& finding) {
  Json record = {{"record", "finding"}, {"level", name_of(finding.level)}, {"text", finding.text}};
  if (finding.count > 1) {
    record["count"] = finding.count;
    for (const std::string& place : finding.places) record["places"].push_back(place);
  }
  return line_of(record);
}

Shown json_line(const LayoutTrial::OtherFile& file) {
  auto bytes = bytes_by_kind(file.ranges);
  Json record = {{"record", "file"}, {"name", escape(file.name)}, {"size", file.size}};
  for (std::size_t kind = 0; kind < bytes.size(); ++kind)
    record[std::string(layout::name_of(static_cast<layout::CoverRange::Kind>(kind)))] = bytes[kind];
  return line_of(record);
}

Shown json_line(const LayoutTrial& trial) {
  auto bytes = bytes_by_kind(trial.ranges);
  Json record = {
      {"record", "coverage"}, {"size", trial.size}, {"entries", trial.entries}, {"compared", trial.compared}};
  for (std::size_t kind = 0; kind < bytes.size(); ++kind)
    record[std::string(layout::name_of(static_cast<layout::CoverRange::Kind>(kind)))] = bytes[kind];
  add_facts(record, trial.facts);
  if (!trial.failure.empty()) record["failure"] = trial.failure;
  return line_of(record);
}

Shown json_line(const LayoutReview& review) {
  Json record = {{"record", "review"},
                 {"target", escape(review.trial.target)},
                 {"entries", review.trial.entries},
                 {"read", review.read}};
  if (!review.trial.failure.empty()) record["failure"] = review.trial.failure;
  record["ranges"] = record["fields"] = record["failing"] = Json::array();
  for (const LayoutReview::OpenRange& range : review.ranges)
    record["ranges"].push_back({{"begin", range.begin},
                                {"end", range.end},
                                {"look", study::name_of(range.look)},
                                {"begins_like", escape(range.begins_like)},
                                {"told_by", escape(range.told_by)}});
  for (const LayoutReview::OpenField& field : review.fields)
    record["fields"].push_back({{"name", escape(field.name)},
                                {"size", field.size},
                                {"records", field.records},
                                {"different", field.distinct},
                                {"least", field.least},
                                {"most", field.most},
                                {"idea", field.idea}});
  for (const LayoutReview::Failing& one : review.failing)
    record["failing"].push_back({{"entries", one.entries}, {"first", escape(one.first)}, {"why", one.why}});
  return line_of(record);
}

Shown json_line(const RoleBack& role) {
  return line_of({{"record", "role"},
                  {"rule", role.rule},
                  {"role", role.role},
                  {"fields", role.fields},
                  {"obstacle", role.obstacle}});
}

Shown json_line(const Checkup& checkup) {
  return line_of(
      {{"record", "checkup"}, {"subject", checkup.subject}, {"well", checkup.well}, {"text", checkup.text}});
}

Shown json_line(const StudyReport& report) {
  Json looks = Json::object();
  for (std::size_t i = 0; i < report.profile.bytes.size(); ++i)
    looks[std::string(study::name_of(static_cast<study::Look>(i)))] = report.profile.bytes[i];
  Json inside = Json::array();
  for (const Recognised& one : report.inside)
    inside.push_back({{"begin", one.begin}, {"end", one.end}, {"what", one.what}});
  Json drafts = Json::array();
  for (const study::Drafted& one : report.findings.drafts) {
    Json columns = Json::array();
    for (const study::Column& column : one.hypothesis.columns)
      columns.push_back({{"role", study::name_of(column.role)},
                         {"at", column.at},
                         {"width", column.width},
                         {"big", column.form.big}});
    const study::Grid& grid = one.hypothesis.grid;
    drafts.push_back({{"begin", grid.begin},
                      {"records", grid.count},
                      {"stride", grid.varies() ? 0 : grid.shape.fixed()},
                      {"bits", one.hypothesis.bits},
                      {"explained", one.trial.explained},
                      {"entries", one.trial.entries},
                      {"failed", one.trial.failed},
                      {"dropped", escape(one.dropped)},
                      {"fits", one.fits},
                      {"learned_from", escape(one.learned_from)},
                      {"columns", columns},
                      {"text", one.text}});
  }
  return line_of({{"record", "study"},
                  {"target", escape(report.target)},
                  {"size", report.size},
                  {"known_as", report.known_as},
                  {"looks", looks},
                  {"inside", inside},
                  {"solved", report.findings.solved()},
                  {"drafts", drafts}});
}

Shown json_line(const layout::Found& found) {
  const auto& plan = found.compiled.plan;
  return line_of({{"record", "layout"},
                  {"name", escape(layout::layout_name(found.path))},
                  {"title", plan ? escape(plan->title) : ""},
                  {"endings", plan ? plan->suffixes : std::vector<std::string>()},
                  {"path", escape(found.path)},
                  {"valid", plan != nullptr}});
}

Shown csv_line(const std::vector<std::string>& cells) {
  std::string line;
  for (const std::string& cell : cells) {
    if (&cell != &cells.front()) line += ',';
    bool runs = !cell.empty() && std::string_view("=+-@\t\r").find(cell[0]) != std::string_view::npos;
    if (!runs && cell.find_first_of(",\"\r\n") == std::string::npos) {
      line += cell;
      continue;
    }
    line += runs ? "\"'" : "\"";
    for (char c : cell) line += c == '"' ? "\"\"" : std::string(1, c);
    line += '"';
  }
  return Shown::made(line + "\r\n");
}

}  // namespace operculum
