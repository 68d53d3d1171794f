#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "report/html.h"
#include "report/study_text.h"

namespace operculum {
namespace {

using layout::CoverRange;

constexpr int kWidth = 1000, kRow = 26, kLabel = 12;  // of the drawing, in its own units

constexpr std::string_view kMapStyle = R"css(<style>
svg.map { width: 100%; height: auto; border: 1px solid var(--line); border-radius: .5rem; background: var(--box) }
svg.map text { font: 11px system-ui, sans-serif; fill: var(--soft) }
.filling { fill: #c9cfd1 } .text { fill: #7fae5b } .structured { fill: #d9a441 } .dense { fill: #7a6bb0 }
.header { fill: #0b6e75 } .index { fill: #2f8fd0 } .data { fill: #9bb8a6 } .padding { fill: #c9cfd1 } .open { fill: #d0532f }
.curve { fill: none; stroke: var(--mark); stroke-width: 1.5 }
.legend span { margin-right: 1rem; white-space: nowrap } .legend i { display: inline-block; width: .8rem; height: .8rem; margin-right: .3rem;
  border-radius: .15rem; vertical-align: -.05rem }
i.filling { background: #c9cfd1 } i.text { background: #7fae5b } i.structured { background: #d9a441 } i.dense { background: #7a6bb0 }
i.header { background: #0b6e75 } i.index { background: #2f8fd0 } i.data { background: #9bb8a6 } i.padding { background: #c9cfd1 } i.open { background: #d0532f }
@media print { body { max-width: none } }
</style>
)css";

constexpr std::string_view kLooks[] = {"filling", "text", "structured", "dense"};
constexpr std::string_view kCovers[] = {"header", "index", "data", "padding", "open"};

/// The file from left to right: how its bytes look, how dense they are, what the draft makes of them.
class Map {
 public:
  explicit Map(const StudyReport& report) : report_(report) {}

  std::string draw() {
    bool drafted = report_.findings.solved();
    int height = 34 + kRow + 90 + (drafted ? kRow + 24 : 0);
    out_ =
        fmt::format("<svg class=\"map\" viewBox=\"0 0 {} {}\" role=\"img\" aria-label=\"map of the file\">\n",
                    kWidth + 20, height);
    axis();
    for (const study::LookRange& range : report_.profile.ranges)
      bar(kLooks[static_cast<std::size_t>(range.look)], range.begin, range.end, 24);
    curve(24 + kRow + 8, 70);
    if (drafted) {
      for (const CoverRange& range : report_.findings.drafts.front().trial.ranges)
        bar(kCovers[static_cast<std::size_t>(range.kind)], range.begin, range.end, 24 + kRow + 96);
    }
    return out_ + "</svg>\n";
  }

 private:
  double x(std::uint64_t at) const {
    return 10 +
           kWidth * static_cast<double>(at) / static_cast<double>(std::max<std::uint64_t>(report_.size, 1));
  }

  void axis() {
    for (int i = 0; i <= 4; ++i) {
      std::uint64_t at = report_.size / 4 * static_cast<std::uint64_t>(i);
      constexpr std::string_view kAnchors[] = {"start", "middle", "middle", "middle", "end"};
      out_ += fmt::format("<text x=\"{:.1f}\" y=\"14\" text-anchor=\"{}\">0x{:x}</text>\n", x(at),
                          kAnchors[i], at);
    }
  }

  /// A range that would be too thin to be seen gets half a unit.
  void bar(std::string_view kind, std::uint64_t begin, std::uint64_t end, int y) {
    double from = x(begin), width = std::max(0.5, x(end) - from);
    out_ += fmt::format(
        "<rect class=\"{}\" x=\"{:.2f}\" y=\"{}\" width=\"{:.2f}\" height=\"{}\"><title>{:#x} to {:#x}: "
        "{}</title></rect>\n",
        kind, from, y, width, kRow, begin, end, kind);
  }

  void curve(int top, int height) {
    out_ += fmt::format(
        "<text x=\"10\" y=\"{}\">8 bits a byte</text><text x=\"10\" y=\"{}\">0</text>\n<path class=\"curve\" "
        "d=\"",
        top + 4, top + height);
    for (std::size_t i = 0; i < report_.profile.entropy.size(); ++i) {
      std::uint64_t middle = std::min(report_.size, i * report_.profile.block + report_.profile.block / 2);
      out_ += fmt::format("{}{:.1f} {:.1f}", i == 0 ? "M" : " L", x(middle),
                          top + kLabel + (height - kLabel) * (1 - report_.profile.entropy[i] / 8.0));
    }
    out_ += "\"/>\n";
  }

  const StudyReport& report_;
  std::string out_;
};

std::string legend(std::span<const std::string_view> kinds, std::span<const std::string_view> names) {
  std::string out = "<p class=\"legend\">";
  for (std::size_t i = 0; i < kinds.size(); ++i)
    out += fmt::format("<span><i class=\"{}\"></i>{}</span>", kinds[i], names[i]);
  return out + "</p>\n";
}

std::string paragraphs(const std::string& text) {
  std::string out;
  for (std::string_view line : split(text, '\n')) {
    if (!line.empty()) out += fmt::format("<p>{}</p>\n", html(line));
  }
  return out;
}

}  // namespace

std::string study_page(const StudyReport& report) {
  constexpr std::string_view kLookNames[] = {"filling", "text", "structured", "packed or encrypted"};
  constexpr std::string_view kCoverNames[] = {"header", "index", "data", "padding", "not explained"};
  std::string out = page_head("Study: " + report.target) + std::string(kMapStyle);
  out += fmt::format("<h1>{}</h1>\n{}", html(report.target), paragraphs(study_summary(report)));
  out +=
      "<h2>The file from its first byte to its last</h2>\n" + Map(report).draw() + legend(kLooks, kLookNames);
  if (report.findings.solved()) {
    out += legend(kCovers, kCoverNames);
    const study::Drafted& best = report.findings.drafts.front();
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
