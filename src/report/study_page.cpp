#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/file_map.h"
#include "report/html.h"
#include "report/study_text.h"

namespace operculum {
namespace {

/// What was found in sentences; lines that are indented are its evidence, and a list.
std::string sentences(const std::string& text) {
  constexpr std::string_view kIndent = "  ";
  std::string out;
  std::string_view open;  // the element that lines go into
  auto go_into = [&](std::string_view element) {
    if (element == open) return;
    if (!open.empty()) out += fmt::format("</{}>\n", open);
    if (!element.empty()) out += fmt::format("<{}>", element);
    open = element;
  };
  for (std::string_view line : split(text, '\n')) {
    if (line.empty()) continue;
    bool evidence = line.starts_with(kIndent);
    go_into(evidence ? "ul" : "p");
    out += evidence ? fmt::format("<li>{}</li>\n", html(line.substr(kIndent.size()))) : html(line) + "<br>\n";
  }
  go_into("");
  return out;
}

FileMap map_of(const StudyReport& report) {
  FileMap map{report.size, &report.profile, {}, report.inside};
  if (report.findings.solved()) map.covered = report.findings.drafts.front().trial.ranges;
  return map;
}

}  // namespace

std::vector<Figure> study_figures(const StudyReport& report) {
  std::vector<Figure> figures = {{"map", map_drawing(map_of(report), Drawn::alone)}};
  if (report.findings.solved())
    figures.push_back({"index", index_drawing(report.findings.drafts.front().hypothesis, Drawn::alone)});
  return figures;
}

std::string study_page(const StudyReport& report) {
  std::string out = page_head("Study: " + report.target) + drawing_style();
  out += fmt::format("<h1>{}</h1>\n{}", html(report.target), sentences(study_summary(report).text()));
  out += "<h2>The file from its first byte to its last</h2>\n" +
         svg_of(map_drawing(map_of(report), Drawn::in_page), Drawn::in_page) + look_legend(map_of(report));
  if (report.findings.solved()) {
    out += cover_legend();
    const study::Drafted& best = report.findings.drafts.front();
    out += "<h2>The first records</h2>\n" +
           svg_of(index_drawing(best.hypothesis, Drawn::in_page), Drawn::in_page) +
           role_legend(best.hypothesis);
    out +=
        "<h2>Evidence</h2>\n<table><tr><th>of every record</th><th class=\"number\">at</th><th "
        "class=\"number\">bytes</th><th>why</th></tr>\n";
    for (const study::Column& column : best.hypothesis.columns)
      out += fmt::format(
          "<tr><td>{}</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td>{}</td></tr>\n",
          html(study::name_of(column.role)), column.at, column.width, html(column.why));
    out += fmt::format("</table>\n<h2>The draft</h2>\n<pre>{}</pre>\n", html_lines(best.text));
  }
  return out + "</body>\n</html>\n";
}

}  // namespace operculum
