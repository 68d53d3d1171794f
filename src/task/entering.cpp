#include "task/entering.h"

#include <algorithm>
#include <unordered_set>

#include "base/text.h"
#include "container/format.h"

namespace operculum {
namespace {

constexpr std::uint64_t kLeastContainer = 20;  // bytes; the smallest of all, an empty ZIP, has 22

/// Endings of files that are what they are called often enough: texts, pictures, sounds, films, fonts,
/// models, and what compilers take and make.
const std::unordered_set<std::string_view>& leaves() {
  static const std::unordered_set<std::string_view> kLeaves = {
      ".a52",        ".aac",  ".ac3",  ".aif",  ".aiff",  ".asm",  ".avi",  ".avif",  ".bas",  ".bat",
      ".bmp",        ".c",    ".cc",   ".cfg",  ".class", ".cmd",  ".conf", ".cpp",   ".cs",   ".css",
      ".csv",        ".cur",  ".cxx",  ".dds",  ".diff",  ".exr",  ".f90",  ".fbx",   ".flac", ".flv",
      ".frag",       ".fs",   ".gif",  ".glb",  ".glsl",  ".gltf", ".go",   ".h",     ".hdr",  ".heic",
      ".hlsl",       ".hpp",  ".htm",  ".html", ".hxx",   ".ico",  ".inc",  ".ini",   ".java", ".jpeg",
      ".jpg",        ".js",   ".json", ".jxl",  ".kt",    ".log",  ".lua",  ".m",     ".m4a",  ".m4",
      ".md",         ".mid",  ".midi", ".mkv",  ".mo",    ".mov",  ".mp2",  ".mp3",   ".mp4",  ".mpeg",
      ".mpg",        ".mtl",  ".nfo",  ".obj",  ".oga",   ".ogg",  ".ogv",  ".opus",  ".otf",  ".patch",
      ".pbm",        ".pcx",  ".pgm",  ".php",  ".pl",    ".ply",  ".pm",   ".png",   ".po",   ".ppm",
      ".properties", ".ps",   ".psd",  ".py",   ".pyc",   ".rb",   ".rc",   ".rs",    ".rst",  ".rtf",
      ".s",          ".scss", ".sh",   ".sql",  ".srt",   ".stl",  ".svg",  ".swift", ".tcl",  ".tex",
      ".tga",        ".tif",  ".tiff", ".toml", ".ts",    ".tsv",  ".ttc",  ".ttf",   ".txt",  ".vert",
      ".vtt",        ".wav",  ".webm", ".webp", ".wma",   ".wmv",  ".woff", ".woff2", ".xbm",  ".xml",
      ".xpm",        ".yaml", ".yml"};
  return kLeaves;
}

bool names_a_leaf(std::string_view name) {
  std::size_t dot = name.rfind('.');
  if (dot == std::string_view::npos || dot == 0) return false;
  return leaves().contains(to_lower(name.substr(dot)));
}

bool is_packed(const Format* format) {
  return format != nullptr && format->kind == "container" && !format->carries;
}

}  // namespace

bool holds_parts(const Format& format) {
  constexpr std::string_view kFamilies[] = {"partition table", "disk image", "volume", "firmware"};
  return std::find(std::begin(kFamilies), std::end(kFamilies), format.family) != std::end(kFamilies);
}

bool names_packed(std::string_view name, const OpenContext* context) {
  return is_packed(format_for_name(name, context));
}

bool names_a_container(std::string_view name, const OpenContext& context) {
  const Format* format = format_for_name(name, &context);
  if (!is_packed(format)) return false;
  std::size_t dot = name.rfind('.');
  bool short_for_tar = to_lower(name.substr(dot)).starts_with(".t");  // .tgz, .txz
  return !format->single_stream || short_for_tar || names_a_container(name.substr(0, dot), context);
}

bool may_be_container(std::string_view name, std::uint64_t size, Enter rule, const OpenContext& context) {
  switch (rule) {
    case Enter::none:
      return false;
    case Enter::named:
      return names_a_container(name, context);
    case Enter::likely:
      return size >= kLeastContainer && !names_a_leaf(name);
    case Enter::all:
      return true;
  }
  return true;
}

}  // namespace operculum
