#include <fmt/format.h>

#include "report/drawing.h"
#include "report/drawing_styles.h"
#include "report/html.h"

namespace operculum {
namespace {

constexpr std::string_view kPageStyle =
    R"css(svg.map { width: 100%; height: auto; border: 1px solid var(--line); border-radius: .5rem; background: var(--box) }
i.inside { border: 1px solid var(--ink); box-sizing: border-box }
@media print { body { max-width: none } }
)css";

std::string css_colour(std::string_view name) {
  if (name.empty()) return "none";
  return name.front() == '#' ? std::string(name) : fmt::format("var(--{})", name);
}

std::string rule(const ShapeStyle& style) {
  std::string out = fmt::format(".{} {{ fill: {}", style.name, css_colour(style.fill));
  if (!style.stroke.empty())
    out += fmt::format("; stroke: {}; stroke-width: {}", css_colour(style.stroke), style.stroke_width);
  if (style.font_size > 0) {
    out += fmt::format("; font: {}px {}", style.font_size,
                       style.monospace ? "ui-monospace, monospace" : "system-ui, sans-serif");
  } else if (!style.fill.empty()) {
    out += fmt::format("; background: {}", style.fill);  // in a legend
  }
  return out + " }\n";
}

/// What a page around it would say of colours.
std::string theme() {
  std::string light, dark;
  for (const ThemeColour& one : kThemeColours) {
    light += fmt::format(" --{}: #{:06x};", one.name, one.light);
    dark += fmt::format(" --{}: #{:06x};", one.name, one.dark);
  }
  return fmt::format(
      "<style>:root {{{} }} @media (prefers-color-scheme: dark) {{ :root {{{} }} }} svg {{ background: "
      "var(--box) }}</style>\n",
      light, dark);
}

/// With as many decimal places as are needed, two at most.
std::string number(double value) {
  std::string out = fmt::format("{:.2f}", value);
  out.resize(out.find_last_not_of('0') + 1);
  if (out.back() == '.') out.pop_back();
  return out;
}

std::string tag(const Shape& shape) {
  constexpr std::string_view kAnchors[] = {"", " text-anchor=\"middle\"", " text-anchor=\"end\""};
  switch (shape.kind) {
    case Shape::Kind::box: {
      std::string out =
          fmt::format(R"(<rect class="{}" x="{}" y="{}" width="{}" height="{}")", shape.style,
                      number(shape.x), number(shape.y), number(shape.width), number(shape.height));
      return shape.words.empty() ? out + "/>\n"
                                 : fmt::format("{}><title>{}</title></rect>\n", out, html(shape.words));
    }
    case Shape::Kind::words:
      return fmt::format("<text class=\"{}\" x=\"{}\" y=\"{}\"{}>{}</text>\n", shape.style, number(shape.x),
                         number(shape.y), kAnchors[static_cast<std::size_t>(shape.anchor)],
                         html(shape.words));
    case Shape::Kind::curve:
      break;
  }
  std::string path;
  for (auto [x, y] : shape.points)
    path += fmt::format("{}{} {}", path.empty() ? "M" : " L", number(x), number(y));
  return fmt::format("<path class=\"{}\" d=\"{}\"/>\n", shape.style, path);
}

}  // namespace

std::string drawing_style() {
  std::string out = "<style>\n" + std::string(kPageStyle);
  for (const ShapeStyle& style : kShapeStyles) out += rule(style);
  return out + "</style>\n";
}

std::string svg_of(const Drawing& drawing, Drawn drawn) {
  bool alone = drawn == Drawn::alone;
  std::string size = alone ? fmt::format(R"( xmlns="http://www.w3.org/2000/svg" width="{}" height="{}")",
                                         drawing.width, drawing.height)
                           : "";
  std::string out = fmt::format(
      "<svg class=\"map\"{} style=\"max-width: {}px\" viewBox=\"0 0 {} {}\" role=\"img\" "
      "aria-label=\"{}\">\n",
      size, drawing.width, drawing.width, drawing.height, drawing.label);
  if (alone) out += theme() + drawing_style();
  for (const Shape& shape : drawing.shapes) out += tag(shape);
  return out + "</svg>\n";
}

}  // namespace operculum
