#include "report/study_text.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "report/text_table.h"

namespace operculum {
namespace {

using study::Column;
using study::Drafted;
using study::Hypothesis;
using study::Role;

std::string percent(double share) {
  return fmt::format("{:.0f} %", 100 * share);
}

std::string looks(const StudyReport& report) {
  std::string text;
  for (std::size_t i = 0; i < report.profile.bytes.size(); ++i) {
    std::uint64_t bytes = report.profile.bytes[i];
    if (bytes == 0 || report.size == 0) continue;
    text += fmt::format("{}{} {}", text.empty() ? "" : ", ",
                        percent(static_cast<double>(bytes) / static_cast<double>(report.size)),
                        study::name_of(static_cast<study::Look>(i)));
  }
  return text;
}

std::string type_text(const Column& column) {
  if (column.role == Role::name) return fmt::format("text, {} bytes", column.width);
  std::string text = fmt::format("{} bytes{}", column.width,
                                 column.width == 1 ? ""
                                 : column.form.big ? ", high first"
                                                   : ", low first");
  if (column.factor != 1) text += fmt::format(", times {}", column.factor);
  if (column.mask != 0) text += fmt::format(", xor {:#x}", column.mask);
  if (column.bits != 0) text += fmt::format(", its lowest {} bits", column.bits);
  return text;
}

void evidence(TextTable& table, const Hypothesis& found) {
  constexpr std::string_view kParts[] = {"header", "trailer", "index"};
  bool digits = !found.grid.words.empty();
  for (const study::HeadField& field : study::sorted(found.head))
    table.add({std::string(kParts[static_cast<std::size_t>(field.part)]),
               field.part == study::Part::tail ? fmt::format("end - {}", field.at) : std::to_string(field.at),
               field.name, digits ? "digits" : fmt::format("{} bytes", field.form.width), field.why});
  for (const Column& column : found.columns)
    table.add({"record", std::to_string(column.at), std::string(study::name_of(column.role)),
               digits ? "digits" : type_text(column), column.why});
}

/// "12 PNG pictures (the first at 0x40), 3 zlib streams (...)", the commonest first.
std::string recognised(const std::vector<Recognised>& inside) {
  constexpr std::size_t kMostKinds = 6;
  struct Kind {
    std::string_view what;
    std::uint64_t count, first;
  };
  std::vector<Kind> kinds;
  for (const Recognised& one : inside) {
    auto known =
        std::find_if(kinds.begin(), kinds.end(), [&](const Kind& kind) { return kind.what == one.what; });
    if (known == kinds.end())
      kinds.push_back({one.what, 1, one.begin});
    else
      ++known->count;
  }
  std::stable_sort(kinds.begin(), kinds.end(),
                   [](const Kind& a, const Kind& b) { return a.count > b.count; });
  std::string text;
  for (std::size_t i = 0; i < std::min(kinds.size(), kMostKinds); ++i)
    text += fmt::format("{}{} ({} at {:#x})", i == 0 ? "" : ", ",
                        counted(kinds[i].count, kinds[i].what, std::string(kinds[i].what) + "s"),
                        kinds[i].count == 1 ? "begins" : "the first begins", kinds[i].first);
  if (kinds.size() > kMostKinds) text += fmt::format(", and {} more kinds", kinds.size() - kMostKinds);
  return text;
}

}  // namespace

Shown study_summary(const StudyReport& report) {
  Shown text = shown("{}: {} bytes; by their statistics {}.\n", escape(report.target), grouped(report.size),
                     looks(report));
  if (!report.known_as.empty())
    text +=
        shown("The program knows it already: {}. `list` and `unpack` work as they are.\n", report.known_as);
  if (!report.inside.empty()) text += shown("Recognised inside: {}.\n", recognised(report.inside));
  if (!report.findings.solved()) {
    text += "No index was found that chance does not explain as well: ";
    std::uint64_t dense = report.profile.bytes[static_cast<std::size_t>(study::Look::dense)];
    std::uint64_t printed = report.profile.bytes[static_cast<std::size_t>(study::Look::text)];
    if (dense * 10 > report.size * 9)
      text += "it is one packed or encrypted run as a whole.\n";
    else if (printed * 10 > report.size * 9)
      text += "it is a text.\n";
    else
      text += "neither tables, nor records with names, nor headers in front of data.\n";
    return text;
  }
  const Drafted& best = report.findings.drafts.front();
  const Hypothesis& found = best.hypothesis;
  const study::Grid& grid = found.grid;
  std::string kind = grid.shape.data_behind ? "headers in front of their data"
                     : grid.varies()        ? "a table of records of varying length"
                                     : fmt::format("a table of records of {} bytes", grid.shape.fixed());
  std::string where = grid.space->plain ? fmt::format("at offset {}", grid.begin)
                      : grid.space->beside
                          ? fmt::format("at offset {} of {}", grid.begin, escape(best.subject.index->name))
                          : fmt::format("at offset {} of an index that lies at {} and goes through {}",
                                        grid.begin, grid.space->stored_at, grid.space->made);
  text +=
      shown("It seems to hold {}, by {} {}.\n", counted(best.trial.entries, "entry", "entries"), kind, where);
  for (const std::string& sentence : found.evidence) text += shown("  {}.\n", sentence);
  text += shown("The draft opens it; {} of {} that were read are whole; {} of the file are explained.\n",
                best.trial.read - best.trial.failed, counted(best.trial.read, "entry", "entries"),
                percent(best.trial.explained));
  if (!best.learned_from.empty())
    text += shown(
        "That was found out from {}, which tells more; numbers and places told here are of that file.\n",
        escape(best.learned_from));
  else if (report.kin > 0)
    text +=
        shown("It opens {} of {} as well.\n", best.fits, counted(report.kin, "other file", "other files"));
  return text;
}

Shown study_text(const StudyReport& report, bool alternatives) {
  Shown text = study_summary(report);
  if (report.findings.solved()) {
    TextTable table({{"where"}, {"at", TextTable::Align::right}, {"is"}, {"form"}, {"why"}});
    evidence(table, report.findings.drafts.front().hypothesis);
    text += Shown("\n") + table.text();
    std::uint64_t open = 0;
    Shown places;
    for (const layout::CoverRange& range : report.findings.drafts.front().trial.ranges) {
      if (range.kind != layout::CoverRange::Kind::unexplained) continue;
      if (open++ < 5)
        places +=
            shown("  {:#x} to {:#x}, {} bytes\n", range.begin, range.end, grouped(range.end - range.begin));
    }
    if (open > 0) text += shown("\nNot explained ({}):\n{}", counted(open, "range", "ranges"), places);
  }
  if (!alternatives) return text;
  TextTable table({{"evidence", TextTable::Align::right},
                   {"explained", TextTable::Align::right},
                   {"begin", TextTable::Align::right},
                   {"records", TextTable::Align::right},
                   {"bytes each", TextTable::Align::right},
                   {"dropped because"}});
  bool first = true;
  for (const Drafted& one : report.findings.drafts) {
    std::string why =
        one.dropped.empty() ? first ? "(this is the draft)" : "another explains more" : one.dropped;
    const study::Grid& grid = one.hypothesis.grid;
    table.add({fmt::format("{:.0f}", one.hypothesis.bits), percent(one.trial.explained),
               std::to_string(grid.begin), std::to_string(grid.count),
               grid.varies() ? "varies" : std::to_string(grid.shape.fixed()), why});
    first = false;
  }
  return text + Shown("\nWhat was tried, with its evidence in bits:\n") + table.text();
}

}  // namespace operculum
