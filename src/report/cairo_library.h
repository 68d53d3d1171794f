#pragma once

#include <cairo.h>

namespace operculum {

/// The functions of libcairo that we use. It is loaded when figures are wanted: other commands need neither
/// it nor the ten libraries that come with it, and start sooner.
struct CairoLibrary {
  decltype(&cairo_image_surface_create) image_surface_create = nullptr;
  decltype(&cairo_surface_write_to_png_stream) surface_write_to_png_stream = nullptr;
  decltype(&cairo_surface_destroy) surface_destroy = nullptr;
  decltype(&cairo_create) create = nullptr;
  decltype(&cairo_destroy) destroy = nullptr;
  decltype(&cairo_status) status = nullptr;
  decltype(&cairo_status_to_string) status_to_string = nullptr;
  decltype(&cairo_scale) scale = nullptr;
  decltype(&cairo_set_source_rgb) set_source_rgb = nullptr;
  decltype(&cairo_set_line_width) set_line_width = nullptr;
  decltype(&cairo_paint) paint = nullptr;
  decltype(&cairo_rectangle) rectangle = nullptr;
  decltype(&cairo_move_to) move_to = nullptr;
  decltype(&cairo_line_to) line_to = nullptr;
  decltype(&cairo_fill) fill = nullptr;
  decltype(&cairo_stroke) stroke = nullptr;
  decltype(&cairo_select_font_face) select_font_face = nullptr;
  decltype(&cairo_set_font_size) set_font_size = nullptr;
  decltype(&cairo_text_extents) text_extents = nullptr;
  decltype(&cairo_show_text) show_text = nullptr;
};

/// Loads it on the first call; null where it is not installed. Safe to call from several threads.
const CairoLibrary* cairo_library();

}  // namespace operculum
