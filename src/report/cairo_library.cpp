#include "report/cairo_library.h"

#include <dlfcn.h>

#include <optional>

namespace operculum {
namespace {

constexpr const char* kName = "libcairo.so.2";  // the library's binary interface since 2005

std::optional<CairoLibrary> load() {
  void* library = dlopen(kName, RTLD_NOW | RTLD_LOCAL);
  if (library == nullptr) return std::nullopt;
  bool whole = true;
  auto find = [&](const char* name, auto& function) {
    function = reinterpret_cast<std::remove_reference_t<decltype(function)>>(dlsym(library, name));
    whole &= function != nullptr;
  };
  CairoLibrary out;
  find("cairo_image_surface_create", out.image_surface_create);
  find("cairo_surface_write_to_png_stream", out.surface_write_to_png_stream);
  find("cairo_surface_destroy", out.surface_destroy);
  find("cairo_create", out.create);
  find("cairo_destroy", out.destroy);
  find("cairo_status", out.status);
  find("cairo_status_to_string", out.status_to_string);
  find("cairo_scale", out.scale);
  find("cairo_set_source_rgb", out.set_source_rgb);
  find("cairo_set_line_width", out.set_line_width);
  find("cairo_paint", out.paint);
  find("cairo_rectangle", out.rectangle);
  find("cairo_move_to", out.move_to);
  find("cairo_line_to", out.line_to);
  find("cairo_fill", out.fill);
  find("cairo_stroke", out.stroke);
  find("cairo_select_font_face", out.select_font_face);
  find("cairo_set_font_size", out.set_font_size);
  find("cairo_text_extents", out.text_extents);
  find("cairo_show_text", out.show_text);
  return whole ? std::optional(out) : std::nullopt;
}

}  // namespace

const CairoLibrary* cairo_library() {
  static const std::optional<CairoLibrary> kLibrary = load();
  return kLibrary ? &*kLibrary : nullptr;
}

}  // namespace operculum
