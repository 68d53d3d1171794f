// UDIF, the disk images of Apple's systems: a trailer leads to a property list, which holds the tables of
// chunks. There is no published specification; the structures are as commonly documented.
#include <fmt/format.h>

#include <algorithm>
#include <pugixml.hpp>

#include "base/checked.h"
#include "base/fields.h"
#include "base/text.h"
#include "codec/adc.h"
#include "codec/block.h"
#include "codec/lzfse.h"
#include "format/formats.h"
#include "format/image/disk_image.h"
#include "io/run_source.h"

namespace operculum {
namespace {

constexpr std::string_view kTrailerMark = "koly", kTableMark = "mish", kEncrypted = "encrcdsa";
constexpr std::uint64_t kTrailer = 512, kSector = 512, kLongestList = 64 << 20, kLargestChunk = 64 << 20;

enum Kind : std::uint32_t {
  kZero = 0,
  kRaw = 1,
  kIgnore = 2,
  kComment = 0x7FFFFFFE,
  kAdc = 0x80000004,
  kZlib = 0x80000005,
  kBzip2 = 0x80000006,
  kLzfse = 0x80000007,
  kXz = 0x80000008,
  kEnd = 0xFFFFFFFF,
};

std::string_view method_of(std::uint32_t kind) {
  switch (kind) {
    case kAdc:
      return "adc";
    case kZlib:
      return "zlib";
    case kBzip2:
      return "bzip2";
    case kLzfse:
      return "lzfse";
    case kXz:
      return "xz";
    default:
      return "stored";
  }
}

/// The value that follows a key in a dictionary of a property list.
pugi::xml_node value_of(const pugi::xml_node& dictionary, std::string_view key) {
  for (pugi::xml_node child : dictionary.children("key")) {
    if (key == child.text().get()) return child.next_sibling();
  }
  return {};
}

void add_table(ByteView raw, std::uint64_t data_at, std::vector<ImageRun>& runs, std::string_view& method) {
  BigFields f(raw, "UDIF chunk table");
  if (f.text(0, 4) != kTableMark) throw Malformed("UDIF chunk table: the mark is missing");
  std::uint64_t first = f.u64(8), offset = f.u64(24);
  for (std::uint32_t i = 0, count = f.u32(200); i < count; ++i) {
    std::size_t at = 204 + std::size_t{i} * 40;
    std::uint32_t kind = f.u32(at);
    if (kind == kEnd) break;
    if (kind == kZero || kind == kIgnore || kind == kComment) continue;
    if (kind != kRaw && method_of(kind) == "stored")
      throw Unsupported(fmt::format("UDIF chunks of kind {:#x}", kind));
    ImageRun run{
        checked_mul(checked_add(first, f.u64(at + 8), "a chunk's place"), kSector, "a chunk's place"),
        checked_mul(f.u64(at + 16), kSector, "a chunk's length"),
        kind == kRaw ? MappedRun::From::stored : MappedRun::From::packed,
        checked_add(checked_add(data_at, offset, "a chunk's place"), f.u64(at + 24), "a chunk's place"),
        f.u64(at + 32),
        kind};
    if (run.from == MappedRun::From::packed && (run.length > kLargestChunk || run.packed > kLargestChunk))
      throw Malformed(fmt::format("UDIF chunk table: a chunk of {} bytes is not possible",
                                  std::max(run.length, run.packed)));
    if (run.length > 0) runs.push_back(run);
    if (kind != kRaw) method = method_of(kind);
  }
}

Bytes decode_chunk(const Source& file, const ImageRun& run) {
  Bytes packed = read_exactly(file, run.at, run.packed, "UDIF chunk"),
        out(static_cast<std::size_t>(run.length));
  std::size_t count = 0;
  switch (run.tag) {
    case kAdc:
      count = decode_adc(packed, out);
      break;
    case kZlib:
      count = decode_block(BlockCodec::zlib, packed, out);
      break;
    case kBzip2:
      count = decode_block(BlockCodec::bzip2, packed, out);
      break;
    case kXz:
      count = decode_block(BlockCodec::xz, packed, out);
      break;
    default:
      count = decode_lzfse(packed, out);
      break;
  }
  if (count < out.size())
    throw Malformed(fmt::format("UDIF chunk at offset {}: {} bytes come out, {} are expected", run.at, count,
                                out.size()));
  return out;
}

Match recognise_udif(Probe& probe) {
  if (starts_with(probe.head(8), kEncrypted)) return Match::front;
  ByteView tail = probe.tail(kTrailer);
  return tail.size() == kTrailer && starts_with(tail, kTrailerMark) &&
                 BigFields(tail, "UDIF").u32(8) == kTrailer
             ? Match::front
             : Match::none;
}

ContainerPtr open_udif(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  if (starts_with(read_up_to(*file, 0, 8), kEncrypted)) throw Unsupported("encrypted UDIF images");
  Bytes trailer =
      read_exactly(*file, file->size() - std::min(file->size(), kTrailer), kTrailer, "UDIF trailer");
  BigFields f(trailer, "UDIF trailer", file->size() - kTrailer);
  if (f.u32(60) > 1) throw Unsupported(fmt::format("UDIF images in {} segments", f.u32(60)));
  std::uint64_t data_at = f.u64(24), list_at = f.u64(216), list_size = f.u64(224);
  if (list_size == 0) throw Unsupported("UDIF images whose tables are in a resource fork");
  if (list_size > kLongestList)
    throw Malformed(fmt::format("UDIF trailer: a property list of {} bytes is not possible", list_size));
  Bytes text = read_exactly(*file, list_at, list_size, "UDIF property list");
  pugi::xml_document list;
  if (pugi::xml_parse_result parsed = list.load_buffer(text.data(), text.size()); !parsed)
    throw Malformed(fmt::format("UDIF property list: {} at byte {}", parsed.description(), parsed.offset));
  DiskImage image;
  std::vector<ImageRun> runs;
  pugi::xml_node tables = value_of(value_of(list.child("plist").child("dict"), "resource-fork"), "blkx");
  for (pugi::xml_node table : tables.children("dict")) {
    image.facts.emplace_back("part", value_of(table, "Name").text().get());
    add_table(from_base64(value_of(table, "Data").text().get()), data_at, runs, image.method);
  }
  if (tables.children("dict").empty()) throw Malformed("UDIF property list: there are no chunk tables");
  std::uint64_t size = checked_mul(f.u64(492), kSector, "the disk's size");
  for (const ImageRun& run : runs) size = std::max(size, run.logical + run.length);
  image.bytes = std::make_shared<RunSource>(file, size, std::move(runs),
                                            [file](const ImageRun& run) { return decode_chunk(*file, run); });
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format udif_format() {
  return {.id = "udif",
          .name = "UDIF disk image",
          .family = "disk image",
          .specification = "none published; as commonly documented",
          .reads = "raw, empty, ADC, zlib, bzip2, LZFSE and LZMA (xz) chunks",
          .lacks = "encrypted images; images in several segments; tables in a resource fork",
          .suffixes = {".dmg", ".udif"},
          .single_stream = true,
          .recognise = recognise_udif,
          .open = open_udif};
}

}  // namespace operculum
