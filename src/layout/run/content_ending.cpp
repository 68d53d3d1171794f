#include "layout/run/content_ending.h"

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "container/identify.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kHead = 4096;  // bytes looked at

struct Mark {
  std::size_t offset;
  std::string_view bytes;
  std::string_view ending;
};

constexpr Mark kMarks[] = {
    {0, "\x89PNG\r\n\x1a\n", ".png"},
    {0, "\xff\xd8\xff", ".jpg"},
    {0, "GIF8", ".gif"},
    {0, "BM", ".bmp"},
    {0, "DDS ", ".dds"},
    {0, "P5\n", ".pgm"},
    {0, "P6\n", ".ppm"},
    {8, "WAVEfmt ", ".wav"},
    {8, "AVI LIST", ".avi"},
    {8, "WEBP", ".webp"},
    {0, "OggS", ".ogg"},
    {0, "fLaC", ".flac"},
    {0, "ID3", ".mp3"},
    {0, "MThd", ".mid"},
    {0, "%PDF-", ".pdf"},
    {0,
     "\x7f"
     "ELF",
     ".elf"},
    {0, "MZ", ".exe"},
    {0, "<?xml", ".xml"},
    {0, "OTTO", ".otf"},
    {0, std::string_view("\0\1\0\0\0", 5), ".ttf"},
    {0, "FORM", ".iff"},
    {0, "#!", ".sh"},
    {0, "SQLite format 3", ".sqlite"},
};

bool is_text(ByteView head) {
  return !head.empty() && std::all_of(head.begin(), head.end(), [](Byte b) {
    return b >= 0x20 || b == '\n' || b == '\r' || b == '\t';
  }) && (is_ascii(as_text(head)) || head.size() == kHead || is_utf8(as_text(head)));
}

}  // namespace

std::string content_ending(Run& run, const Value& bytes) {
  Bytes head(kHead);
  try {
    StreamPtr stream = open_recipe(run.recipe_of(bytes), std::nullopt);
    head.resize(read_fully(*stream, head));
  } catch (const Error&) {
    return ".bin";
  }
  for (const Mark& mark : kMarks) {
    if (head.size() >= mark.offset + mark.bytes.size() &&
        as_text(head).substr(mark.offset, mark.bytes.size()) == mark.bytes)
      return std::string(mark.ending);
  }
  if (is_text(head)) return ".txt";
  Probe probe(head, head.size() < kHead, "");
  const Format* format = recognise(probe);
  if (format != nullptr && !format->suffixes.empty()) return std::string(format->suffixes.front());
  return ".bin";
}

}  // namespace operculum::layout
