#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "report/html.h"
#include "report/map_text.h"

namespace operculum {
namespace {

constexpr int kTrackWidth = 980, kLeft = 10, kTrackRow = 34, kTrackTop = 30,
              kDeepestDrawn = 5;  // of the drawing, in its own units
constexpr std::size_t kMostRows = 2000, kMostDrawn = 4000;

constexpr std::string_view kTableMapStyle = R"css(<style>
svg.map { width: 100%; height: auto; border: 1px solid var(--line); border-radius: .5rem; background: var(--box) }
svg.map text { font: 11px system-ui, sans-serif; fill: var(--ink) } svg.map .axis { fill: var(--soft) }
svg.map rect { stroke: var(--box); stroke-width: 1 } svg.map .tick { stroke: var(--line) }
.part { fill: #2f8fd0 } .packed { fill: #7a6bb0 } .files { fill: #7fae5b } .code { fill: #d9a441 } .filling { fill: #c9cfd1 } .unknown { fill: #d0532f }
svg.map .on { fill: #fff; pointer-events: none } svg.map .on.dark { fill: #1d2b33 }
i.part { background: #2f8fd0 } i.packed { background: #7a6bb0 } i.files { background: #7fae5b } i.code { background: #d9a441 } i.filling { background: #c9cfd1 } i.unknown { background: #d0532f }
td.offset { font-family: ui-monospace, monospace; white-space: nowrap }
@media print { body { max-width: none } }
</style>
)css";

/// The class that gives a region its colour.
std::string_view look_of(const Region& one) {
  auto has = [&](std::string_view part) { return one.what.find(part) != std::string::npos; };
  if (has("filled with") || has("unallocated")) return "filling";
  if (has("packed or encrypted")) return "packed";
  if (one.gap) return "unknown";
  if (has("file system") || has("archive") || has("volume")) return "files";
  if (has("kernel") || has("code") || has("program") || has("driver") || has("boot")) return "code";
  return "part";
}

class RegionFigure {
 public:
  explicit RegionFigure(const RegionMap& map) : map_(map) {}

  std::string draw() {
    int depth = std::min(depth_of(map_.regions), kDeepestDrawn);
    int height = kTrackTop + depth * kTrackRow + 10;
    out_ =
        fmt::format("<svg class=\"map\" viewBox=\"0 0 {} {}\" role=\"img\" aria-label=\"map of the file\">\n",
                    kTrackWidth + 2 * kLeft, height);
    axis(height);
    rows(map_.regions, 0);
    return out_ + "</svg>\n";
  }

 private:
  static int depth_of(const std::vector<Region>& regions) {
    int most = 0;
    for (const Region& one : regions) most = std::max(most, 1 + depth_of(one.inner));
    return most;
  }

  double x(std::uint64_t at) const {
    return kLeft +
           kTrackWidth * static_cast<double>(at) / static_cast<double>(std::max<std::uint64_t>(map_.size, 1));
  }

  /// Offsets at round places.
  void axis(int height) {
    std::uint64_t step = 1;
    while (map_.size / step > 8) step *= 2;
    for (std::uint64_t at = 0; at <= map_.size; at += step) {
      out_ += fmt::format("<line class=\"tick\" x1=\"{0:.1f}\" x2=\"{0:.1f}\" y1=\"22\" y2=\"{1}\"/>", x(at),
                          height - 4);
      if (x(at) < kTrackWidth - 20)
        out_ += fmt::format("<text class=\"axis\" x=\"{:.1f}\" y=\"16\">{:#x}</text>\n", x(at), at);
    }
  }

  void rows(const std::vector<Region>& regions, int depth) {
    if (depth >= kDeepestDrawn) return;
    for (const Region& one : regions) {
      if (++drawn_ > kMostDrawn) return;
      double left = x(one.at), width = std::max(x(one.at + one.size) - left, 0.6);
      int top = kTrackTop + depth * kTrackRow;
      std::string_view look = look_of(one);
      std::string name = one.gap ? one.what : one.path;
      out_ += fmt::format(
          "<g><title>{:#x} to {:#x}, {}: {} {}</title><rect class=\"{}\" x=\"{:.1f}\" y=\"{}\" "
          "width=\"{:.1f}\" height=\"{}\"/>",
          one.at, one.at + one.size, human_size(one.size), html(name), html(one.gap ? "" : one.what), look,
          left, top, width, kTrackRow - 3);
      label(name, left, width, top, look);
      out_ += "</g>\n";
      rows(one.inner, depth + 1);
    }
  }

  /// As much of the name as there is room for.
  void label(const std::string& name, double left, double width, int top, std::string_view look) {
    constexpr double kLetter = 6.3;
    std::string shown(name.substr(name.rfind('/') + 1));
    auto room = static_cast<std::size_t>(std::max(0.0, (width - 8) / kLetter));
    if (room < 3) return;
    if (shown.size() > room) shown = shown.substr(0, room - 1) + "…";
    bool dark = look == "filling" || look == "files" || look == "code";
    out_ += fmt::format("<text class=\"on{}\" x=\"{:.1f}\" y=\"{}\">{}</text>", dark ? " dark" : "", left + 4,
                        top + 20, html(shown));
  }

  const RegionMap& map_;
  std::string out_;
  std::size_t drawn_ = 0;
};

class Table {
 public:
  std::string make(const RegionMap& map) {
    out_ = "<table><tr><th>from</th><th>to</th><th class=\"number\">size</th><th>what</th><th></th></tr>\n";
    rows(map.regions, 0);
    if (count_ > kMostRows)
      out_ += fmt::format("<tr><td colspan=\"5\">and {} more</td></tr>\n", count_ - kMostRows);
    return out_ + "</table>\n";
  }

 private:
  void rows(const std::vector<Region>& regions, int depth) {
    for (const Region& one : regions) {
      if (count_++ < kMostRows)
        out_ += fmt::format(
            "<tr><td class=\"offset\">{:08x}</td><td class=\"offset\">{:08x}</td><td "
            "class=\"number\">{}</td><td class=\"path\" "
            "style=\"padding-left:{}rem\">{}</td><td>{}{}</td></tr>\n",
            one.at, one.at + one.size, human_size(one.size), 0.5 + 1.2 * depth, one.gap ? "" : html(one.path),
            html(one.what),
            one.note.empty() ? "" : fmt::format(" <span class=\"soft\">{}</span>", html(one.note)));
      rows(one.inner, depth + 1);
    }
  }
  std::string out_;
  std::size_t count_ = 0;
};

}  // namespace

std::string map_page(const RegionMap& map, const std::string& name) {
  std::string title = fmt::format("Map of {}", name);
  std::string out = page_head(title) + std::string(kTableMapStyle);
  out += fmt::format("<h1>{}</h1>\n<p>{} ({} bytes). Each row shows what lies in what is above it.</p>\n",
                     html(title), human_size(map.size), grouped(map.size));
  out += RegionFigure(map).draw();
  constexpr std::pair<std::string_view, std::string_view> kLegend[] = {
      {"code", "programs"},    {"files", "file systems, volumes, archives"},
      {"part", "other parts"}, {"packed", "packed or encrypted"},
      {"filling", "filling"},  {"unknown", "not told"}};
  out += "<p class=\"legend\">";
  for (auto [look, words] : kLegend) out += fmt::format("<span><i class=\"{}\"></i>{}</span>", look, words);
  out += "</p>\n";
  if (!map.versions.empty()) {
    out += "<h2>Versions and dates in its texts</h2>\n<ul>\n";
    for (const std::string& one : map.versions) out += fmt::format("<li>{}</li>\n", html(one));
    out += "</ul>\n";
  }
  out += "<h2>Ranges</h2>\n" + Table().make(map);
  return out + "</body></html>\n";
}

}  // namespace operculum
