#include "report/file_map.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "report/html.h"

namespace operculum {
namespace {

using layout::CoverRange;
using study::Column;
using study::Role;

constexpr int kMapWidth = 1000, kMapRow = 26, kLabel = 12;  // of a map, in its own units
constexpr int kLegend = 22, kCell = 22, kCellHeight = 20, kOffsetWidth = 84;
constexpr std::size_t kInsideDrawn = 1000, kRowsDrawn = 12, kBytesDrawn = 40, kTextDrawn = 28;

constexpr std::string_view kMapStyle = R"css(<style>
svg.map { width: 100%; height: auto; border: 1px solid var(--line); border-radius: .5rem; background: var(--box) }
svg.map text { font: 11px system-ui, sans-serif; fill: var(--soft) }
svg.map text.byte { font: 12px ui-monospace, monospace; fill: #10181c } svg.map text.unknown { fill: var(--ink) }
.filling { fill: #c9cfd1; background: #c9cfd1 } .text { fill: #7fae5b; background: #7fae5b } .structured { fill: #d9a441; background: #d9a441 } .dense { fill: #7a6bb0; background: #7a6bb0 }
.header { fill: #0b6e75; background: #0b6e75 } .index { fill: #2f8fd0; background: #2f8fd0 } .data { fill: #9bb8a6; background: #9bb8a6 } .padding { fill: #c9cfd1; background: #c9cfd1 } .open { fill: #d0532f; background: #d0532f }
.place { fill: #58b3ba; background: #58b3ba } .size { fill: #e0b45c; background: #e0b45c } .unpacked { fill: #9cc77c; background: #9cc77c } .name { fill: #86bdea; background: #86bdea } .packing { fill: #e58b72; background: #e58b72 }
.other { fill: #b9c4c9; background: #b9c4c9 } rect.unknown { fill: none; stroke: var(--line) }
rect.inside { fill: none; stroke: var(--ink); stroke-width: .8 } i.inside { border: 1px solid var(--ink); box-sizing: border-box }
.curve { fill: none; stroke: var(--mark); stroke-width: 1.5 }
@media print { body { max-width: none } }
</style>
)css";

/// Of a drawing that has no page around it.
constexpr std::string_view kAlone =
    "<style>:root { --ink: #1d2b33; --soft: #5b6b73; --line: #d5dde0; --mark: #0b6e75; --box: #f1f4f2 } "
    "@media (prefers-color-scheme: dark) { :root { --ink: #e4e9ea; --soft: #9fb0b7; --line: #35444b; --mark: "
    "#6fc3c9; --box: #1c262b } } svg { background: var(--box) }</style>\n";

constexpr std::string_view kLooks[] = {"filling", "text", "structured", "dense", "inside"};
constexpr std::string_view kLookNames[] = {"filling", "text", "structured", "packed or encrypted",
                                           "a file of its own"};
constexpr std::string_view kCovers[] = {"header", "index", "data", "padding", "open"};
constexpr std::string_view kCoverNames[] = {"header", "index", "data", "padding", "not explained"};

std::string_view class_of(Role role) {
  switch (role) {
    case Role::offset:
    case Role::end_at:
    case Role::name_at:
      return "place";
    case Role::size:
      return "size";
    case Role::unpacked:
      return "unpacked";
    case Role::name:
      return "name";
    case Role::packing:
      return "packing";
    case Role::sum:
    case Role::time:
    case Role::other:
      break;
  }
  return "other";
}

std::string begin_svg(int width, int height, std::string_view label, Drawn drawn) {
  bool alone = drawn == Drawn::alone;
  std::string size =
      alone ? fmt::format(" xmlns=\"http://www.w3.org/2000/svg\" width=\"{}\" height=\"{}\"", width, height)
            : "";
  return fmt::format(
      "<svg class=\"map\"{} style=\"max-width: {}px\" viewBox=\"0 0 {} {}\" role=\"img\" "
      "aria-label=\"{}\">\n{}{}",
      size, width, width, height, label, alone ? kAlone : "", alone ? kMapStyle : "");
}

/// What colours mean, for people: classes and names.
struct Legend {
  std::vector<std::string_view> kinds, names;
};

Legend roles_of(const study::Hypothesis& found) {
  Legend legend;
  std::set<Role> seen;
  for (const Column& column : found.columns) {
    if (!seen.insert(column.role).second) continue;
    legend.kinds.push_back(class_of(column.role));
    legend.names.push_back(study::name_of(column.role));
  }
  if (found.grid.shape.text != study::TextEnd::none && !seen.contains(Role::name)) {
    legend.kinds.push_back("name");
    legend.names.push_back("name");
  }
  return legend;
}

/// The same within a drawing, for those that stand alone.
std::string legend_row(std::span<const std::string_view> kinds, std::span<const std::string_view> names,
                       int y) {
  std::string out;
  int x = 10;
  for (std::size_t i = 0; i < kinds.size(); ++i) {
    out += fmt::format(
        "<rect class=\"{}\" x=\"{}\" y=\"{}\" width=\"11\" height=\"11\"/><text x=\"{}\" "
        "y=\"{}\">{}</text>\n",
        kinds[i], x, y, x + 16, y + 10, names[i]);
    x += 34 + 7 * static_cast<int>(names[i].size());
  }
  return out;
}

/// Without the last one where nothing was recognised inside.
std::span<const std::string_view> looks_of(const FileMap& map, std::span<const std::string_view> all) {
  return map.inside.empty() ? all.first(all.size() - 1) : all;
}

class MapDrawing {
 public:
  explicit MapDrawing(const FileMap& map) : map_(map) {}

  std::string draw(Drawn drawn) {
    bool covered = !map_.covered.empty();
    int height = 34 + kMapRow + 90 + (covered ? kMapRow + 24 : 0);
    bool alone = drawn == Drawn::alone;
    out_ = begin_svg(kMapWidth + 20, height + (alone ? kLegend * (covered ? 2 : 1) : 0), "map of the file",
                     drawn);
    if (alone) out_ += legend_row(looks_of(map_, kLooks), looks_of(map_, kLookNames), height);
    if (alone && covered) out_ += legend_row(kCovers, kCoverNames, height + kLegend);
    axis();
    for (const study::LookRange& range : map_.profile->ranges)
      bar(static_cast<std::size_t>(range.look), kLooks, kLookNames, range.begin, range.end, 24);
    for (std::size_t i = 0; i < std::min(map_.inside.size(), kInsideDrawn); ++i) outline(map_.inside[i], 24);
    curve(24 + kMapRow + 8, 70);
    for (const CoverRange& range : map_.covered)
      bar(static_cast<std::size_t>(range.kind), kCovers, kCoverNames, range.begin, range.end,
          24 + kMapRow + 96);
    return out_ + "</svg>\n";
  }

 private:
  double x(std::uint64_t at) const {
    return 10 +
           kMapWidth * static_cast<double>(at) / static_cast<double>(std::max<std::uint64_t>(map_.size, 1));
  }

  void axis() {
    for (int i = 0; i <= 4; ++i) {
      std::uint64_t at = map_.size / 4 * static_cast<std::uint64_t>(i);
      constexpr std::string_view kAnchors[] = {"start", "middle", "middle", "middle", "end"};
      out_ += fmt::format("<text x=\"{:.1f}\" y=\"14\" text-anchor=\"{}\">0x{:x}</text>\n", x(at),
                          kAnchors[i], at);
    }
  }

  /// A range that would be too thin to be seen gets half a unit.
  void bar(std::size_t kind, std::span<const std::string_view> classes,
           std::span<const std::string_view> names, std::uint64_t begin, std::uint64_t end, int y) {
    double from = x(begin), width = std::max(0.5, x(end) - from);
    out_ += fmt::format(
        "<rect class=\"{}\" x=\"{:.2f}\" y=\"{}\" width=\"{:.2f}\" height=\"{}\"><title>{:#x} to {:#x}: "
        "{}</title></rect>\n",
        classes[kind], from, y, width, kMapRow, begin, end, names[kind]);
  }

  void outline(const Recognised& one, int y) {
    double from = x(one.begin), width = std::max(1.0, x(one.end) - from);
    out_ += fmt::format(
        "<rect class=\"inside\" x=\"{:.2f}\" y=\"{}\" width=\"{:.2f}\" height=\"{}\"><title>{:#x}: "
        "{}</title></rect>\n",
        from, y - 2, width, kMapRow + 4, one.begin, one.what);
  }

  void curve(int top, int height) {
    out_ += fmt::format(
        "<text x=\"10\" y=\"{}\">8 bits a byte</text><text x=\"10\" y=\"{}\">0</text>\n<path class=\"curve\" "
        "d=\"",
        top + 4, top + height);
    const study::Profile& profile = *map_.profile;
    for (std::size_t i = 0; i < profile.entropy.size(); ++i) {
      std::uint64_t middle = std::min(map_.size, i * profile.block + profile.block / 2);
      out_ += fmt::format("{}{:.1f} {:.1f}", i == 0 ? "M" : " L", x(middle),
                          top + kLabel + (height - kLabel) * (1 - profile.entropy[i] / 8.0));
    }
    out_ += "\"/>\n";
  }

  const FileMap& map_;
  std::string out_;
};

class IndexDrawing {
 public:
  explicit IndexDrawing(const study::Hypothesis& found) : found_(found), grid_(found.grid) {}

  std::string draw(Drawn drawn) {
    std::string rows;
    std::size_t count = std::min(grid_.rows(), kRowsDrawn);
    for (std::size_t i = 0; i < count; ++i) rows += row(i);
    int height = static_cast<int>(count) * kCellHeight + 12;
    if (drawn == Drawn::alone) {
      Legend roles = roles_of(found_);
      rows += legend_row(roles.kinds, roles.names, height);
      height += kLegend;
    }
    return begin_svg(std::max(width_ + 10, 500), height, "the first records of the index", drawn) + rows +
           "</svg>\n";
  }

 private:
  std::string row(std::size_t number) {
    x_ = kOffsetWidth;
    y_ = 6 + static_cast<int>(number) * kCellHeight;
    std::uint64_t at =
        grid_.starts.empty() ? grid_.begin + number * grid_.shape.fixed() : grid_.starts[number];
    std::string out = fmt::format("<text x=\"6\" y=\"{}\">{:#x}</text>", y_ + 14, at);
    if (!grid_.words.empty()) {
      out += text(number);
      for (std::size_t cell = 0; cell + 8 <= grid_.shape.fixed(); cell += 8)
        out += box(std::to_string(grid_.value(number, cell, {8, false})), class_at(cell), 84);
    } else {
      out += bytes(number, 0, grid_.shape.before) + text(number) +
             bytes(number, grid_.shape.before, grid_.shape.fixed());
    }
    width_ = std::max(width_, x_);
    return out + "\n";
  }

  std::string bytes(std::size_t number, std::size_t from, std::size_t to) {
    std::string out;
    for (std::size_t i = from; i < to; ++i) {
      if (i - from == kBytesDrawn) return out + box("...", "unknown", 2 * kCell);
      Byte byte = grid_.row(number)[i];
      bool readable = class_at(i) == "name" && byte >= 0x20 && byte < 0x7f;
      out += box(readable ? html(std::string_view(reinterpret_cast<const char*>(&byte), 1))
                          : fmt::format("{:02x}", byte),
                 class_at(i), kCell);
    }
    return out;
  }

  std::string text(std::size_t number) {
    if (grid_.shape.text == study::TextEnd::none) return "";
    std::string name = printable(grid_.texts[number]);
    if (name.size() > kTextDrawn) name = name.substr(0, kTextDrawn - 3) + "...";
    return box(html(name), "name", 12 + 8 * static_cast<int>(name.size()));
  }

  std::string box(const std::string& content, std::string_view kind, int width) {
    std::string out = fmt::format(
        "<rect class=\"{}\" x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\"/><text class=\"byte{}\" x=\"{}\" "
        "y=\"{}\" "
        "text-anchor=\"middle\">{}</text>",
        kind, x_, y_, width - 1, kCellHeight - 2, kind == "unknown" ? " unknown" : "", x_ + width / 2,
        y_ + 14, content);
    x_ += width;
    return out;
  }

  std::string_view class_at(std::size_t at) const {
    for (const Column& column : found_.columns) {
      if (at >= column.at && at < column.at + column.width) return class_of(column.role);
    }
    return "unknown";
  }

  const study::Hypothesis& found_;
  const study::Grid& grid_;
  int x_ = 0, y_ = 0, width_ = 0;
};

std::string legend(std::span<const std::string_view> kinds, std::span<const std::string_view> names) {
  std::string out = "<p class=\"legend\">";
  for (std::size_t i = 0; i < kinds.size(); ++i)
    out += fmt::format("<span><i class=\"{}\"></i>{}</span>", kinds[i], names[i]);
  return out + "</p>\n";
}

}  // namespace

std::string file_map_svg(const FileMap& map, Drawn drawn) {
  return MapDrawing(map).draw(drawn);
}

std::string index_svg(const study::Hypothesis& found, Drawn drawn) {
  return IndexDrawing(found).draw(drawn);
}

std::string_view drawing_style() {
  return kMapStyle;
}

std::string look_legend(const FileMap& map) {
  return legend(looks_of(map, kLooks), looks_of(map, kLookNames));
}

std::string cover_legend() {
  return legend(kCovers, kCoverNames);
}

std::string role_legend(const study::Hypothesis& found) {
  Legend roles = roles_of(found);
  return legend(roles.kinds, roles.names);
}

}  // namespace operculum
