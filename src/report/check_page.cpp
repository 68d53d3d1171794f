#include "report/check_page.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/file_map.h"
#include "report/html.h"
#include "report/records.h"

namespace operculum {
namespace {

using layout::CoverRange;

constexpr std::size_t kMostRanges = 100;

FileMap map_of(const LayoutTrial& trial) {
  return {trial.size, &trial.profile, trial.ranges};
}

std::string sums(const LayoutTrial& trial) {
  auto bytes = bytes_by_kind(trial.ranges);
  std::string out = "<div class=\"sums\">";
  for (std::size_t kind = 0; kind < bytes.size(); ++kind) {
    auto name = static_cast<CoverRange::Kind>(kind);
    double share =
        trial.size == 0 ? 0 : 100.0 * static_cast<double>(bytes[kind]) / static_cast<double>(trial.size);
    bool alarm = name == CoverRange::Kind::unexplained && bytes[kind] > 0;
    out += fmt::format("<div{}><b>{:.2f} %</b><span>{}</span></div>", alarm ? " class=\"alarm\"" : "", share,
                       layout::name_of(name));
  }
  return out + "</div>\n";
}

std::string unexplained(const LayoutTrial& trial) {
  std::string rows;
  std::size_t count = 0;
  for (const CoverRange& range : trial.ranges) {
    if (range.kind != CoverRange::Kind::unexplained || ++count > kMostRanges) continue;
    rows += fmt::format(
        "<tr><td class=\"number\">{:#x}</td><td class=\"number\">{:#x}</td><td "
        "class=\"number\">{}</td></tr>\n",
        range.begin, range.end, grouped(range.end - range.begin));
  }
  if (count == 0) return "";
  std::string more = count > kMostRanges ? fmt::format("<p>... and {} more</p>\n", count - kMostRanges) : "";
  return "<h2>Not explained</h2>\n<table><tr><th class=\"number\">from</th><th class=\"number\">to</th><th "
         "class=\"number\">bytes</th></tr>\n" +
         rows + "</table>\n" + more;
}

std::string fields(const LayoutTrial& trial) {
  std::string out =
      "<h2>What was read</h2>\n<table><tr><th class=\"number\">at</th><th "
      "class=\"number\">bytes</th><th>raw</th><th>field</th><th>value</th></tr>\n";
  for (const layout::Tracer::Field& field : trial.fields) {
    std::string at = field.offset ? fmt::format("{:#x}", *field.offset) : "";
    if (!field.region.empty()) at = fmt::format("{} {}", field.region, at);
    out += fmt::format(
        "<tr><td class=\"number\">{}</td><td "
        "class=\"number\">{}</td><td><code>{}</code></td><td>{}</td><td>{}</td></tr>\n",
        html(at), field.offset ? std::to_string(field.size) : "", field.raw, html(field.name),
        html(field.value));
  }
  out += "</table>\n";
  if (trial.fields_left_out > 0)
    out += fmt::format("<p>... and {} (--fields N shows more)</p>\n",
                       counted(trial.fields_left_out, "field more", "fields more"));
  return out;
}

}  // namespace

std::string check_page(const LayoutTrial& trial, const std::string& title) {
  std::string out = page_head("Description: " + trial.target) + drawing_style();
  out +=
      fmt::format("<h1>{}</h1>\n<p class=\"lead\">read by \"{}\": {}</p>\n", html(trial.target), html(title),
                  trial.failure.empty() ? counted(trial.entries, "entry", "entries") : html(trial.failure));
  out += sums(trial) + svg_of(map_drawing(map_of(trial), Drawn::in_page), Drawn::in_page) +
         look_legend(map_of(trial)) + cover_legend();
  for (const FoldedFinding& finding : trial.findings)
    out += fmt::format("<p><span class=\"kind\">{}</span> {}</p>\n", name_of(finding.level),
                       html(to_text(finding)));
  return out + unexplained(trial) + fields(trial) + "</body>\n</html>\n";
}

std::vector<Figure> check_figures(const LayoutTrial& trial) {
  return {{"map", map_drawing(map_of(trial), Drawn::alone)}};
}

}  // namespace operculum
