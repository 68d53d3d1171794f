#include "collection/catalogue/overview.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "container/entry.h"

namespace operculum {
namespace {

constexpr std::size_t kPlaces = 5;  // of each duplicate that are named

constexpr const char* kLocator =
    "file.path || '/' || folder.text || CASE folder.text WHEN '' THEN '' ELSE '/' END || name.text";

std::uint64_t count_of(const Statement& row, int column) {
  return static_cast<std::uint64_t>(row.number(column));
}

void ask_totals(Database& database, Overview& out) {
  Statement row = database.prepare(
      "SELECT count(*), coalesce(sum(size), 0), coalesce(sum(entries), 0), coalesce(sum(unpacked), 0), "
      "coalesce(sum(verified = 'whole'), 0), coalesce(sum(state = 'reading'), 0), "
      "coalesce(sum(state IN ('damaged', 'unreadable') OR verified = 'damaged'), 0) FROM file WHERE gone_at "
      "IS NULL");
  if (!row.step()) return;
  out.files = count_of(row, 0);
  out.bytes = count_of(row, 1);
  out.entries = count_of(row, 2);
  out.unpacked = count_of(row, 3);
  out.verified = count_of(row, 4);
  out.unfinished = count_of(row, 5);
  out.faulty_count = count_of(row, 6);
  out.gone =
      static_cast<std::uint64_t>(database.number("SELECT count(*) FROM file WHERE gone_at IS NOT NULL"));
}

void ask_formats(Database& database, Overview& out) {
  Statement rows = database.prepare(
      "SELECT coalesce(format, ''), count(*), sum(size) FROM file WHERE gone_at IS NULL GROUP BY 1 ORDER BY "
      "3 DESC");
  while (rows.step()) out.formats.push_back({rows.text(0), count_of(rows, 1), count_of(rows, 2)});
}

/// By their endings: what a collection has most of and nobody can open is what is worth describing first.
void ask_unknown(Database& database, std::size_t most, Overview& out) {
  Statement rows = database.prepare(
      "SELECT path, size FROM file WHERE gone_at IS NULL AND state = 'plain' AND kind = 'data'");
  std::map<std::string, OverviewRow> endings;
  while (rows.step()) {
    std::string path = rows.text(0);
    std::string_view name = base_name(path);
    std::size_t dot = name.rfind('.');
    std::string ending = dot == std::string_view::npos || dot == 0 ? "" : to_lower(name.substr(dot));
    OverviewRow& row = endings[ending];
    row.name = ending;
    ++row.count;
    row.bytes += count_of(rows, 1);
  }
  for (auto& [ending, row] : endings) out.unknown.push_back(row);
  std::stable_sort(out.unknown.begin(), out.unknown.end(),
                   [](const OverviewRow& a, const OverviewRow& b) { return a.count > b.count; });
  out.unknown.resize(std::min(out.unknown.size(), most));
}

void ask_duplicates(Database& database, std::size_t most, Overview& out) {
  Statement totals = database.prepare(
      "SELECT count(*), coalesce(sum((copies - 1) * size), 0) FROM content INDEXED BY content_cost WHERE "
      "copies > 1");
  if (totals.step()) {
    out.duplicate_contents = count_of(totals, 0);
    out.duplicate_cost = count_of(totals, 1);
  }
  Statement rows = database.prepare(fmt::format(
      "SELECT id, size, copies FROM content WHERE copies > 1 ORDER BY (copies - 1) * size DESC LIMIT {}",
      most));
  Statement places = database.prepare(
      fmt::format("SELECT {} {} WHERE entry.content_id = ?1 LIMIT {}", kLocator, kEntryJoins, kPlaces));
  while (rows.step()) {
    OverviewDuplicate one{count_of(rows, 1), count_of(rows, 2), {}};
    places.bind(1, rows.number(0));
    while (places.step()) one.places.push_back(places.text(0));
    places.reset();
    out.duplicates.push_back(std::move(one));
  }
}

void ask_faulty(Database& database, std::size_t most, Overview& out) {
  Statement rows = database.prepare(fmt::format(
      "SELECT path, CASE verified WHEN 'damaged' THEN 'damaged' ELSE state END, "
      "coalesce(nullif(verify_message, ''), message, ''), size, modified / 1000000000 FROM file WHERE "
      "gone_at "
      "IS NULL AND (state IN ('damaged', 'unreadable') OR verified = 'damaged') ORDER BY path LIMIT {}",
      most));
  while (rows.step())
    out.faulty.push_back({rows.text(0), rows.text(1), rows.text(2), count_of(rows, 3), rows.number(4)});
}

std::vector<OverviewFile> ask_first(Database& database, std::string_view column, std::size_t most) {
  std::vector<OverviewFile> out;
  Statement rows = database.prepare(fmt::format(
      "SELECT {}, entry.size, entry.modified {} WHERE entry.{} IS NOT NULL ORDER BY entry.{} DESC LIMIT {}",
      kLocator, kEntryJoins, column, column, most));
  while (rows.step()) out.push_back({rows.text(0), "", "", count_of(rows, 1), rows.number(2)});
  return out;
}

}  // namespace

Overview overview_of(Database& database, std::size_t most) {
  Overview out;
  ask_totals(database, out);
  ask_formats(database, out);
  ask_unknown(database, most, out);
  ask_duplicates(database, most, out);
  ask_faulty(database, most, out);
  out.largest = ask_first(database, "size", most);
  out.newest = ask_first(database, "modified", most);
  return out;
}

}  // namespace operculum
