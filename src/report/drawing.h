#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/bytes.h"

namespace operculum {

/// Part of a drawing. How it looks, its style says: one of drawing_styles.h.
struct Shape {
  enum class Kind { box, words, curve };
  enum class Anchor { begin, middle, end };
  Kind kind = Kind::box;
  std::string_view style;
  double x = 0, y = 0, width = 0,
         height = 0;  ///< of words: where their base line begins, ends or has its middle
  Anchor anchor = Anchor::begin;
  std::string words;                                   ///< of a box: what is told when a person points at it
  std::vector<std::pair<double, double>> points = {};  ///< of a curve
};

/// A drawing as plain data: shapes, later ones above earlier ones. Its unit is a pixel of a usual screen.
struct Drawing {
  int width = 0, height = 0;
  std::string_view label;  ///< what it shows, for those who cannot see it
  std::vector<Shape> shapes = {};

  void box(std::string_view style, double x, double y, double across, double down, std::string words = "") {
    shapes.push_back({Shape::Kind::box, style, x, y, across, down, Shape::Anchor::begin, std::move(words)});
  }
  void words(std::string_view style, double x, double y, std::string words,
             Shape::Anchor anchor = Shape::Anchor::begin) {
    shapes.push_back({Shape::Kind::words, style, x, y, 0, 0, anchor, std::move(words)});
  }
};

/// Whether a drawing stands in a page of ours, or alone in a file, which then needs nothing else.
enum class Drawn { in_page, alone };

/// As SVG 1.1. In light and dark, as the reader's screen is.
std::string svg_of(const Drawing& drawing, Drawn drawn);

/// As PNG, two pixels a unit, light. Nothing where libcairo is not installed. Throws Error when it cannot
/// draw.
std::optional<Bytes> png_of(const Drawing& drawing);

/// Styles for a page that holds such drawings.
std::string drawing_style();

}  // namespace operculum
