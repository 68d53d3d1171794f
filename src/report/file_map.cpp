#include "report/file_map.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"

namespace operculum {
namespace {

using layout::CoverRange;
using study::Column;
using study::Role;

constexpr int kMapWidth = 1000, kMapRow = 26, kLabel = 12;  // of a map, in its own units
constexpr int kLegend = 22, kCell = 22, kCellHeight = 20, kOffsetWidth = 84;
constexpr std::size_t kInsideDrawn = 1000, kRowsDrawn = 12, kBytesDrawn = 40, kTextDrawn = 28;

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
    case Role::part:
      return "size";
    case Role::unpacked:
      return "unpacked";
    case Role::name:
    case Role::parent:
    case Role::depth:
    case Role::behind:
    case Role::first_in:
    case Role::children:
    case Role::next_in:
    case Role::hash:
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
void add_legend(Drawing& out, std::span<const std::string_view> kinds,
                std::span<const std::string_view> names) {
  int x = 10, y = out.height;
  for (std::size_t i = 0; i < kinds.size(); ++i) {
    out.box(kinds[i], x, y, 11, 11);
    out.words("label", x + 16, y + 10, std::string(names[i]));
    x += 34 + 7 * static_cast<int>(names[i].size());
  }
  out.height += kLegend;
}

/// Without the last one where nothing was recognised inside.
std::span<const std::string_view> looks_of(const FileMap& map, std::span<const std::string_view> all) {
  return map.inside.empty() ? all.first(all.size() - 1) : all;
}

class MapDrawing {
 public:
  explicit MapDrawing(const FileMap& map) : map_(map) {}

  Drawing draw(Drawn drawn) {
    bool covered = !map_.covered.empty();
    out_ = {kMapWidth + 20, 34 + kMapRow + 90 + (covered ? kMapRow + 24 : 0), "map of the file"};
    if (drawn == Drawn::alone) {
      add_legend(out_, looks_of(map_, kLooks), looks_of(map_, kLookNames));
      if (covered) add_legend(out_, kCovers, kCoverNames);
    }
    axis();
    for (const study::LookRange& range : map_.profile->ranges)
      bar(static_cast<std::size_t>(range.look), kLooks, kLookNames, range.begin, range.end, 24);
    for (std::size_t i = 0; i < std::min(map_.inside.size(), kInsideDrawn); ++i) outline(map_.inside[i], 24);
    curve(24 + kMapRow + 8, 70);
    for (const CoverRange& range : map_.covered)
      bar(static_cast<std::size_t>(range.kind), kCovers, kCoverNames, range.begin, range.end,
          24 + kMapRow + 96);
    return std::move(out_);
  }

 private:
  double x(std::uint64_t at) const {
    return 10 +
           kMapWidth * static_cast<double>(at) / static_cast<double>(std::max<std::uint64_t>(map_.size, 1));
  }

  void axis() {
    using Anchor = Shape::Anchor;
    constexpr Anchor kAnchors[] = {Anchor::begin, Anchor::middle, Anchor::middle, Anchor::middle,
                                   Anchor::end};
    for (std::size_t i = 0; i < std::size(kAnchors); ++i) {
      std::uint64_t at = map_.size / 4 * i;
      out_.words("label", x(at), 14, fmt::format("{:#x}", at), kAnchors[i]);
    }
  }

  /// A range that would be too thin to be seen gets half a unit.
  void bar(std::size_t kind, std::span<const std::string_view> classes,
           std::span<const std::string_view> names, std::uint64_t begin, std::uint64_t end, int y) {
    double from = x(begin), width = std::max(0.5, x(end) - from);
    out_.box(classes[kind], from, y, width, kMapRow,
             fmt::format("{:#x} to {:#x}: {}", begin, end, names[kind]));
  }

  void outline(const Recognised& one, int y) {
    double from = x(one.begin), width = std::max(1.0, x(one.end) - from);
    out_.box("inside", from, y - 2, width, kMapRow + 4, fmt::format("{:#x}: {}", one.begin, one.what));
  }

  void curve(int top, int height) {
    out_.words("label", 10, top + 4, "8 bits a byte");
    out_.words("label", 10, top + height, "0");
    const study::Profile& profile = *map_.profile;
    Shape curve{Shape::Kind::curve, "curve"};
    for (std::size_t i = 0; i < profile.entropy.size(); ++i) {
      std::uint64_t middle = std::min(map_.size, i * profile.block + profile.block / 2);
      curve.points.emplace_back(x(middle), top + kLabel + (height - kLabel) * (1 - profile.entropy[i] / 8.0));
    }
    out_.shapes.push_back(std::move(curve));
  }

  const FileMap& map_;
  Drawing out_;
};

class IndexDrawing {
 public:
  explicit IndexDrawing(const study::Hypothesis& found) : found_(found), grid_(found.grid) {}

  Drawing draw(Drawn drawn) {
    std::size_t count = std::min(grid_.rows(), kRowsDrawn);
    out_ = {0, static_cast<int>(count) * kCellHeight + 12, "the first records of the index"};
    for (std::size_t i = 0; i < count; ++i) row(i);
    if (drawn == Drawn::alone) {
      Legend roles = roles_of(found_);
      add_legend(out_, roles.kinds, roles.names);
    }
    out_.width = std::max(out_.width + 10, 500);
    return std::move(out_);
  }

 private:
  void row(std::size_t number) {
    x_ = kOffsetWidth;
    y_ = 6 + static_cast<int>(number) * kCellHeight;
    std::uint64_t at =
        grid_.starts.empty() ? grid_.begin + number * grid_.shape.fixed() : grid_.starts[number];
    out_.words("label", 6, y_ + 14, fmt::format("{:#x}", at));
    if (!grid_.words.empty()) {
      text(number);
      for (std::size_t cell = 0; cell + 8 <= grid_.shape.fixed(); cell += 8)
        box(std::to_string(grid_.value(number, cell, {8, false})), class_at(cell), 84);
    } else {
      bytes(number, 0, grid_.shape.before);
      text(number);
      bytes(number, grid_.shape.before, grid_.shape.fixed());
    }
    out_.width = std::max(out_.width, x_);
  }

  void bytes(std::size_t number, std::size_t from, std::size_t to) {
    for (std::size_t i = from; i < to; ++i) {
      if (i - from == kBytesDrawn) return box("...", "unknown", 2 * kCell);
      Byte byte = grid_.row(number)[i];
      bool readable = class_at(i) == "name" && byte >= 0x20 && byte < 0x7f;
      box(readable ? std::string(1, static_cast<char>(byte)) : fmt::format("{:02x}", byte), class_at(i),
          kCell);
    }
  }

  void text(std::size_t number) {
    if (grid_.shape.text == study::TextEnd::none) return;
    std::string name = printable(grid_.texts[number]);
    if (name.size() > kTextDrawn) name = name.substr(0, kTextDrawn - 3) + "...";
    int width = 12 + 8 * static_cast<int>(name.size());
    box(std::move(name), "name", width);
  }

  void box(std::string content, std::string_view kind, int width) {
    out_.box(kind, x_, y_, width - 1, kCellHeight - 2);
    out_.words(kind == "unknown" ? "bare" : "byte", x_ + width / 2.0, y_ + 14, std::move(content),
               Shape::Anchor::middle);
    x_ += width;
  }

  std::string_view class_at(std::size_t at) const {
    for (const Column& column : found_.columns) {
      if (at >= column.at && at < column.at + column.width) return class_of(column.role);
    }
    return "unknown";
  }

  const study::Hypothesis& found_;
  const study::Grid& grid_;
  int x_ = 0, y_ = 0;
  Drawing out_;
};

std::string legend(std::span<const std::string_view> kinds, std::span<const std::string_view> names) {
  std::string out = "<p class=\"legend\">";
  for (std::size_t i = 0; i < kinds.size(); ++i)
    out += fmt::format("<span><i class=\"{}\"></i>{}</span>", kinds[i], names[i]);
  return out + "</p>\n";
}

}  // namespace

Drawing map_drawing(const FileMap& map, Drawn drawn) {
  return MapDrawing(map).draw(drawn);
}

Drawing index_drawing(const study::Hypothesis& found, Drawn drawn) {
  return IndexDrawing(found).draw(drawn);
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
