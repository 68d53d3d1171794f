#include "report/overview_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/time.h"
#include "base/units.h"
#include "container/format.h"
#include "report/records.h"
#include "report/text_table.h"

namespace operculum {
namespace {

using Align = TextTable::Align;

Shown formats_text(const Overview& overview) {
  TextTable table({{"format"}, {"files", Align::right}, {"bytes", Align::right}});
  for (const OverviewRow& row : overview.formats)
    table.add({format_name(row.name), grouped(row.count), human_size(row.bytes)});
  return table.text();
}

Shown duplicates_text(const Overview& overview) {
  TextTable table({{"cost", Align::right}, {"copies", Align::right}, {"bytes each", Align::right}, {"in"}});
  for (const OverviewDuplicate& one : overview.duplicates) {
    bool first = true;
    for (const std::string& place : one.places) {
      table.add({first ? human_size(one.cost()) : "", first ? grouped(one.copies) : "",
                 first ? grouped(one.size) : "", escape(place)});
      first = false;
    }
  }
  return table.text();
}

Shown files_text(const std::vector<OverviewFile>& files) {
  TextTable table({{"bytes", Align::right}, {"modified"}, {"entry"}});
  for (const OverviewFile& file : files)
    table.add({grouped(file.size), file.modified == 0 ? "-" : to_text(from_unix(file.modified)),
               escape(file.path)});
  return table.text();
}

Shown faulty_text(const Overview& overview) {
  Shown out;
  for (const OverviewFile& file : overview.faulty)
    out += shown("{} ({}): {}\n", escape(file.path), file.state, file.message);
  if (overview.faulty_count > overview.faulty.size())
    out += shown("and {} more\n", grouped(overview.faulty_count - overview.faulty.size()));
  return out;
}

}  // namespace

std::string format_name(const std::string& id) {
  if (id.empty()) return "no container";
  for (const Format& format : formats()) {
    if (format.id == id) return std::string(format.name);
  }
  return escape(id);
}

Shown overview_text(const Overview& overview) {
  Shown out = shown("{} ({}) with {} ({} unpacked); {} verified as whole, {} faulty, {} gone",
                    counted(overview.files, "file", "files"), human_size(overview.bytes),
                    counted(overview.entries, "entry", "entries"), human_size(overview.unpacked),
                    grouped(overview.verified), grouped(overview.faulty_count), grouped(overview.gone));
  if (overview.unfinished > 0) out += shown(", {} not read to the end", grouped(overview.unfinished));
  out += ".\n";
  auto section = [&](std::string_view title, const Shown& text) {
    if (!text.empty()) out += shown("\n{}\n{}", title, text);
  };
  section("What there is", formats_text(overview));
  if (!overview.unknown.empty()) {
    TextTable table({{"ending"}, {"files", Align::right}, {"bytes", Align::right}});
    for (const OverviewRow& row : overview.unknown)
      table.add({row.name.empty() ? "(none)" : escape(row.name), grouped(row.count), human_size(row.bytes)});
    section("What nothing opens, by ending", table.text());
  }
  if (!overview.duplicates.empty())
    section(fmt::format("What is there more than once: {} in {}", human_size(overview.duplicate_cost),
                        counted(overview.duplicate_contents, "content", "contents")),
            duplicates_text(overview));
  section("What is damaged", faulty_text(overview));
  if (!overview.largest.empty()) section("The largest", files_text(overview.largest));
  if (!overview.newest.empty()) section("The newest", files_text(overview.newest));
  return out;
}

Shown overview_csv(const Overview& overview) {
  Shown out = csv_line({"section", "name", "count", "bytes", "note"});
  auto number = [](std::uint64_t value) { return std::to_string(value); };
  out += csv_line({"total", "files", number(overview.files), number(overview.bytes), ""});
  out += csv_line({"total", "entries", number(overview.entries), number(overview.unpacked), ""});
  out += csv_line(
      {"total", "duplicates", number(overview.duplicate_contents), number(overview.duplicate_cost), ""});
  for (const OverviewRow& row : overview.formats)
    out += csv_line({"format", format_name(row.name), number(row.count), number(row.bytes), ""});
  for (const OverviewRow& row : overview.unknown)
    out += csv_line({"unknown", escape(row.name), number(row.count), number(row.bytes), ""});
  for (const OverviewDuplicate& one : overview.duplicates) {
    for (const std::string& place : one.places)
      out += csv_line({"duplicate", escape(place), number(one.copies), number(one.size), number(one.cost())});
  }
  for (const OverviewFile& file : overview.faulty)
    out += csv_line({"faulty", escape(file.path), "1", number(file.size), printable(file.message)});
  for (const OverviewFile& file : overview.largest)
    out += csv_line({"largest", escape(file.path), "1", number(file.size), ""});
  for (const OverviewFile& file : overview.newest)
    out +=
        csv_line({"newest", escape(file.path), "1", number(file.size), to_rfc3339(from_unix(file.modified))});
  return out;
}

}  // namespace operculum
