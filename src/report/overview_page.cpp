#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/time.h"
#include "base/units.h"
#include "container/entry.h"
#include "report/html.h"
#include "report/overview_text.h"

namespace operculum {
namespace {

constexpr int kBarNames = 230, kBars = 640, kBarRow = 26;  // of a figure, in its own units
constexpr std::size_t kMostBars = 14;

constexpr std::string_view kOverviewStyle = R"css(<style>
svg.bars { width: 100%; height: auto } svg.bars text { font: 13px system-ui, sans-serif; fill: var(--ink) } svg.bars .soft { fill: var(--soft) }
svg.bars rect { fill: #2f8fd0 } svg.bars rect.cost { fill: #d9a441 }
@media print { body { max-width: none } }
</style>
)css";

struct Bar {
  std::string name, note;
  std::uint64_t value = 0;
};

std::string bars(const std::vector<Bar>& all, std::string_view kind) {
  std::size_t count = std::min(all.size(), kMostBars);
  std::uint64_t most = 1;
  for (const Bar& bar : all) most = std::max(most, bar.value);
  std::string out = fmt::format("<svg class=\"bars\" viewBox=\"0 0 {} {}\" role=\"img\">\n",
                                kBarNames + kBars + 180, static_cast<int>(count) * kBarRow + 6);
  for (std::size_t i = 0; i < count; ++i) {
    int y = static_cast<int>(i) * kBarRow;
    double width = std::max(1.0, kBars * static_cast<double>(all[i].value) / static_cast<double>(most));
    out += fmt::format(
        "<text x=\"{}\" y=\"{}\" text-anchor=\"end\">{}</text><rect class=\"{}\" x=\"{}\" y=\"{}\" "
        "width=\"{:.1f}\" "
        "height=\"{}\" rx=\"3\"/><text class=\"soft\" x=\"{:.1f}\" y=\"{}\">{}</text>\n",
        kBarNames - 10, y + 18, html(all[i].name), kind, kBarNames, y + 3, width, kBarRow - 6,
        kBarNames + width + 8, y + 18, html(all[i].note));
  }
  return out + "</svg>\n";
}

std::string sums(const Overview& overview) {
  std::string out = "<div class=\"sums\">";
  auto box = [&](const std::string& value, std::string_view what, std::string_view kind = "") {
    out += fmt::format("<div class=\"{}\"><b>{}</b><span>{}</span></div>", kind, html(value), what);
  };
  box(grouped(overview.files), "files");
  box(human_size(overview.bytes), "on disk");
  box(grouped(overview.entries), "entries at all depths");
  box(human_size(overview.unpacked), "unpacked");
  box(human_size(overview.duplicate_cost), "in copies");
  box(grouped(overview.verified), "verified as whole");
  box(grouped(overview.faulty_count), "faulty", overview.faulty_count > 0 ? "alarm" : "");
  box(grouped(overview.gone), "gone");
  return out + "</div>\n";
}

std::string files_table(const std::vector<OverviewFile>& files) {
  std::string out = "<table><tr><th class=\"number\">bytes</th><th>modified</th><th>entry</th></tr>\n";
  for (const OverviewFile& file : files)
    out += fmt::format(
        "<tr><td class=\"number\">{}</td><td class=\"name\">{}</td><td class=\"path\">{}</td></tr>\n",
        grouped(file.size), file.modified == 0 ? "-" : to_text(from_unix(file.modified)),
        html(escape(file.path)));
  return out + "</table>\n";
}

std::string duplicates_table(const Overview& overview) {
  std::string out =
      "<table><tr><th class=\"number\">cost</th><th class=\"number\">copies</th><th class=\"number\">bytes "
      "each</th><th>in</th></tr>\n";
  for (const OverviewDuplicate& one : overview.duplicates) {
    std::string places;
    for (const std::string& place : one.places) places += html(escape(place)) + "<br>";
    if (one.copies > one.places.size())
      places += fmt::format("and {} more", grouped(one.copies - one.places.size()));
    out += fmt::format(
        "<tr><td class=\"number\">{}</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td "
        "class=\"path\">{}"
        "</td></tr>\n",
        human_size(one.cost()), grouped(one.copies), grouped(one.size), places);
  }
  return out + "</table>\n";
}

}  // namespace

std::string overview_page(const Overview& overview, const std::string& title) {
  std::string out = page_head("Catalogue: " + title) + std::string(kOverviewStyle);
  out += fmt::format("<h1>{}</h1>\n<p class=\"lead\">What the catalogue says of the collection.</p>\n{}",
                     html(title), sums(overview));
  std::vector<Bar> formats_bars, cost_bars;
  for (const OverviewRow& row : overview.formats)
    formats_bars.push_back(
        {format_name(row.name),
         fmt::format("{} in {}", human_size(row.bytes), counted(row.count, "file", "files")), row.bytes});
  out += "<h2>What there is, by bytes on disk</h2>\n" + bars(formats_bars, "");
  if (!overview.duplicates.empty()) {
    for (const OverviewDuplicate& one : overview.duplicates) {
      std::string name = one.places.empty() ? "" : escape(base_name(one.places.front()));
      cost_bars.push_back(
          {name, fmt::format("{} in {}", human_size(one.cost()), counted(one.copies, "copy", "copies")),
           one.cost()});
    }
    out += "<h2>What is there more than once, by what the copies take</h2>\n" + bars(cost_bars, "cost") +
           duplicates_table(overview);
  }
  if (!overview.unknown.empty()) {
    out +=
        "<h2>What nothing opens, by ending</h2>\n<table><tr><th>ending</th><th "
        "class=\"number\">files</th><th "
        "class=\"number\">bytes</th></tr>\n";
    for (const OverviewRow& row : overview.unknown)
      out += fmt::format("<tr><td>{}</td><td class=\"number\">{}</td><td class=\"number\">{}</td></tr>\n",
                         row.name.empty() ? "(none)" : html(escape(row.name)), grouped(row.count),
                         human_size(row.bytes));
    out += "</table>\n";
  }
  if (!overview.faulty.empty()) {
    out += "<h2>What is damaged</h2>\n<table><tr><th>file</th><th>state</th><th>why</th></tr>\n";
    for (const OverviewFile& file : overview.faulty)
      out += fmt::format("<tr><td class=\"path\">{}</td><td>{}</td><td>{}</td></tr>\n",
                         html(escape(file.path)), html(file.state), html(file.message));
    out += "</table>\n";
  }
  out += "<h2>The largest entries</h2>\n" + files_table(overview.largest);
  out += "<h2>The newest entries</h2>\n" + files_table(overview.newest);
  return out + "</body>\n</html>\n";
}

}  // namespace operculum
