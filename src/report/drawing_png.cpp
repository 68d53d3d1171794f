#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "base/error.h"
#include "base/text.h"
#include "report/cairo_library.h"
#include "report/drawing.h"
#include "report/drawing_styles.h"

// There in builds that look for leaks.
// NOLINTBEGIN(bugprone-reserved-identifier): the sanitizer's names
extern "C" {
__attribute__((weak)) void __lsan_disable();
__attribute__((weak)) void __lsan_enable();
}

namespace operculum {
namespace {

/// While it lives: what fontconfig keeps for the next time is no leak of ours.
class KeptByOthers {
 public:
  KeptByOthers() {
    if (__lsan_disable != nullptr) __lsan_disable();
  }
  ~KeptByOthers() {
    if (__lsan_enable != nullptr) __lsan_enable();
  }
  KeptByOthers(const KeptByOthers&) = delete;
  KeptByOthers& operator=(const KeptByOthers&) = delete;
};
// NOLINTEND(bugprone-reserved-identifier)

constexpr double kScale = 2;  // pixels a unit

std::uint32_t rgb_of(std::string_view name) {
  if (name.front() == '#') return static_cast<std::uint32_t>(parse_number(name.substr(1), 16).value_or(0));
  auto known = std::find_if(std::begin(kThemeColours), std::end(kThemeColours),
                            [&](const ThemeColour& one) { return one.name == name; });
  return known == std::end(kThemeColours) ? 0 : known->light;
}

class Painter {
 public:
  Painter(const CairoLibrary& cairo, const Drawing& drawing)
      : cairo_(cairo),
        surface_(
            cairo.image_surface_create(CAIRO_FORMAT_RGB24, pixels(drawing.width), pixels(drawing.height)),
            cairo.surface_destroy),
        context_(cairo.create(surface_.get()), cairo.destroy) {
    cairo_.scale(context_.get(), kScale, kScale);
    use("box");
    cairo_.paint(context_.get());
    for (const Shape& shape : drawing.shapes) paint(shape);
    check(cairo_.status(context_.get()));
  }

  Bytes png() const {
    Bytes out;
    auto take = [](void* to, const unsigned char* bytes, unsigned count) {
      static_cast<Bytes*>(to)->insert(static_cast<Bytes*>(to)->end(), bytes, bytes + count);
      return CAIRO_STATUS_SUCCESS;
    };
    check(cairo_.surface_write_to_png_stream(surface_.get(), take, &out));
    return out;
  }

 private:
  static int pixels(int units) { return static_cast<int>(units * kScale); }

  void check(cairo_status_t status) const {
    if (status != CAIRO_STATUS_SUCCESS)
      throw Error(ErrorKind::io, fmt::format("cannot draw a figure: {}", cairo_.status_to_string(status)));
  }

  void use(std::string_view name) {
    std::uint32_t value = rgb_of(name);
    auto part = [&](unsigned shift) { return static_cast<double>(value >> shift & 0xFF) / 255; };
    cairo_.set_source_rgb(context_.get(), part(16), part(8), part(0));
  }

  void paint(const Shape& shape) {
    const ShapeStyle* style = std::find_if(std::begin(kShapeStyles), std::end(kShapeStyles),
                                           [&](const ShapeStyle& one) { return one.name == shape.style; });
    switch (shape.kind) {
      case Shape::Kind::words:
        return write(shape, *style);
      case Shape::Kind::box:
        cairo_.rectangle(context_.get(), shape.x, shape.y, shape.width, shape.height);
        break;
      case Shape::Kind::curve:
        for (std::size_t i = 0; i < shape.points.size(); ++i)
          (i == 0 ? cairo_.move_to : cairo_.line_to)(context_.get(), shape.points[i].first,
                                                     shape.points[i].second);
        break;
    }
    if (!style->fill.empty()) {
      use(style->fill);
      cairo_.fill(context_.get());
    } else {
      use(style->stroke);
      cairo_.set_line_width(context_.get(), style->stroke_width);
      cairo_.stroke(context_.get());
    }
  }

  void write(const Shape& shape, const ShapeStyle& style) {
    use(style.fill);
    cairo_.select_font_face(context_.get(), style.monospace ? "monospace" : "sans-serif",
                            CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
    cairo_.set_font_size(context_.get(), style.font_size);
    cairo_text_extents_t extents{};
    cairo_.text_extents(context_.get(), shape.words.c_str(), &extents);
    double before = shape.anchor == Shape::Anchor::begin    ? 0
                    : shape.anchor == Shape::Anchor::middle ? extents.x_advance / 2
                                                            : extents.x_advance;
    cairo_.move_to(context_.get(), shape.x - before, shape.y);
    cairo_.show_text(context_.get(), shape.words.c_str());
  }

  const CairoLibrary& cairo_;
  std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface_;
  std::unique_ptr<cairo_t, decltype(&cairo_destroy)> context_;
};

}  // namespace

std::optional<Bytes> png_of(const Drawing& drawing) {
  KeptByOthers kept;
  const CairoLibrary* cairo = cairo_library();
  return cairo == nullptr ? std::nullopt : std::optional(Painter(*cairo, drawing).png());
}

}  // namespace operculum
