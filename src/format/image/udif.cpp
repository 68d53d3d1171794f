// UDIF, the disk images of Apple's systems: a trailer leads to a property list, in older images to a resource
// fork, which holds the tables of chunks. The chunks may be in several files, each with a trailer; their
// places count through all of them. There is no published specification; the structures are as commonly
// documented.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/text.h"
#include "codec/adc.h"
#include "codec/block.h"
#include "codec/lzfse.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "format/image/udif_records.h"
#include "format/image/udif_tables.h"
#include "io/missing_source.h"
#include "io/run_source.h"

namespace operculum {
namespace {

using namespace udif;

constexpr std::uint64_t kSector = 512, kLongestList = 64 << 20, kLargestChunk = 64 << 20;

std::string_view method_of(std::uint32_t kind) {
  switch (kind) {
    case adc_chunk:
      return "adc";
    case zlib_chunk:
      return "zlib";
    case bzip2_chunk:
      return "bzip2";
    case lzfse_chunk:
      return "lzfse";
    case xz_chunk:
      return "xz";
    default:
      return "stored";
  }
}

/// A file of an image: the whole of it, or a segment.
struct Segment {
  SourcePtr file;
  Trailer trailer;
};

std::optional<Trailer> trailer_of(const Source& file) {
  if (file.size() < Trailer::size) return std::nullopt;
  Bytes raw = read_up_to(file, file.size() - Trailer::size, Trailer::size);
  if (raw.size() < Trailer::size) return std::nullopt;
  auto out = read_structure<Trailer>(raw.data());
  return as_text(out.signature) == Trailer::mark ? std::optional(out) : std::nullopt;
}

/// All segments that can be found, in their order.
std::vector<Segment> find_segments(const Input& input, Segment own) {
  std::vector<Segment> out = {own};
  input.sibling.each([&](const Candidate&, const SourcePtr& file) {
    auto trailer = trailer_of(*file);
    if (!trailer || trailer->segment_id != own.trailer.segment_id) return true;
    bool known = std::any_of(out.begin(), out.end(), [&](const Segment& one) {
      return one.trailer.segment_number == trailer->segment_number;
    });
    if (!known) out.push_back({file, *trailer});
    return out.size() < own.trailer.segment_count;
  });
  std::sort(out.begin(), out.end(), [](const Segment& a, const Segment& b) {
    return a.trailer.segment_number < b.trailer.segment_number;
  });
  return out;
}

/// The data of all segments behind each other; what is missing is an error when it is read.
SourcePtr join_data(const std::vector<Segment>& segments, const Trailer& own, DiskImage& image) {
  std::vector<SourcePtr> parts;
  std::uint64_t size = 0;
  std::uint32_t next = 1;
  auto lack = [&](std::uint32_t until, std::uint64_t count) {
    std::string why =
        until - next == 1
            ? fmt::format("segment {} of {} is not beside this one; put it there", next, own.segment_count)
            : fmt::format("segments {} to {} of {} are not beside this one; put them there", next, until - 1,
                          own.segment_count);
    image.findings.push_back({Finding::Level::fault, why});
    parts.push_back(make_missing(count, why));
    size += count;
  };
  for (const Segment& one : segments) {
    const Trailer& trailer = one.trailer;
    if (trailer.segment_number > next)
      lack(trailer.segment_number,
           trailer.running_data_fork_offset - std::min(size, trailer.running_data_fork_offset));
    if (trailer.running_data_fork_offset != size)
      throw Malformed(
          fmt::format("UDIF trailer: expected segment {} to go on at byte {} of the data, found {}",
                      trailer.segment_number, size, trailer.running_data_fork_offset));
    parts.push_back(make_slice(one.file, trailer.data_fork_offset, trailer.data_fork_length));
    size = checked_add(size, trailer.data_fork_length, "the size of the data");
    next = trailer.segment_number + 1;
  }
  if (next <= own.segment_count) lack(own.segment_count + 1, UINT32_MAX);
  return make_joined(std::move(parts));
}

std::vector<Table> tables_of(const std::vector<Segment>& segments) {
  auto read = [](const Segment& one, std::uint64_t at, std::uint64_t size, std::string_view what) {
    if (size > kLongestList)
      throw Malformed(fmt::format("UDIF trailer: a {} of {} bytes is not possible", what, size));
    return read_exactly(*one.file, at, size, fmt::format("UDIF {}", what));
  };
  for (const Segment& one : segments) {
    const Trailer& trailer = one.trailer;
    if (trailer.xml_length > 0)
      return tables_in_list(read(one, trailer.xml_offset, trailer.xml_length, "property list"));
    if (trailer.rsrc_fork_length > 0)
      return tables_in_fork(read(one, trailer.rsrc_fork_offset, trailer.rsrc_fork_length, "resource fork"));
  }
  throw Malformed("UDIF trailer: it leads to no chunk tables; they may be in a segment that is missing");
}

void add_table(ByteView raw, std::uint64_t data_at, std::vector<ImageRun>& runs, std::string_view& method) {
  constexpr const char* kPlace = "a chunk's place";
  if (raw.size() < size_on_disk<TableHead>) throw CutShort("UDIF chunk table: it is cut short");
  auto head = read_structure<TableHead>(raw.data());
  if (as_text(head.signature) != TableHead::mark) throw Malformed("UDIF chunk table: the mark is missing");
  ByteView rest = raw.subspan(size_on_disk<TableHead>);
  for (std::uint32_t i = 0; i < head.number_of_chunks; ++i) {
    if (rest.size() < size_on_disk<Chunk>)
      throw CutShort(fmt::format("UDIF chunk table: expected {} chunks, found {}", head.number_of_chunks, i));
    auto chunk = read_structure<Chunk>(rest.data());
    rest = rest.subspan(size_on_disk<Chunk>);
    if (chunk.kind == end_chunk) break;
    if (chunk.kind == zero_chunk || chunk.kind == ignore_chunk || chunk.kind == comment_chunk) continue;
    if (chunk.kind != raw_chunk && method_of(chunk.kind) == "stored")
      throw Unsupported(fmt::format("UDIF chunks of kind {:#x}", chunk.kind));
    ImageRun run{checked_mul(checked_add(head.sector_number, chunk.sector_number, kPlace), kSector, kPlace),
                 checked_mul(chunk.sector_count, kSector, "a chunk's length"),
                 chunk.kind == raw_chunk ? MappedRun::From::stored : MappedRun::From::packed,
                 checked_add(checked_add(data_at, head.data_offset, kPlace), chunk.offset, kPlace),
                 chunk.length,
                 chunk.kind};
    if (run.from == MappedRun::From::packed && (run.length > kLargestChunk || run.packed > kLargestChunk))
      throw Malformed(fmt::format("UDIF chunk table: a chunk of {} bytes is not possible",
                                  std::max(run.length, run.packed)));
    if (run.length > 0) runs.push_back(run);
    if (chunk.kind != raw_chunk) method = method_of(chunk.kind);
  }
}

Bytes decode_chunk(const Source& file, const ImageRun& run) {
  Bytes packed = read_exactly(file, run.at, run.packed, "UDIF chunk"),
        out(static_cast<std::size_t>(run.length));
  std::size_t count = 0;
  switch (run.tag) {
    case adc_chunk:
      count = decode_adc(packed, out);
      break;
    case zlib_chunk:
      count = decode_block(BlockCodec::zlib, packed, out);
      break;
    case bzip2_chunk:
      count = decode_block(BlockCodec::bzip2, packed, out);
      break;
    case xz_chunk:
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
  ByteView tail = probe.tail(Trailer::size);
  if (tail.size() < Trailer::size) return Match::none;
  auto trailer = read_structure<Trailer>(tail.data());
  return as_text(trailer.signature) == Trailer::mark && trailer.header_size == Trailer::size ? Match::front
                                                                                             : Match::none;
}

ContainerPtr open_udif(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  auto trailer = trailer_of(*file);
  if (!trailer) throw Malformed("UDIF trailer: the mark is missing");
  DiskImage image;
  std::vector<Segment> segments = {{file, *trailer}};
  SourcePtr data = file;
  std::uint64_t data_at = trailer->data_fork_offset;
  if (trailer->segment_count > 1) {
    segments = find_segments(input, segments.front());
    image.facts.emplace_back("segments", fmt::format("{} of {}", segments.size(), trailer->segment_count));
    data = join_data(segments, *trailer, image);
    data_at = 0;
  }
  std::vector<ImageRun> runs;
  for (const Table& table : tables_of(segments)) {
    image.facts.emplace_back("part", escape(table.name));
    add_table(table.bytes, data_at, runs, image.method);
  }
  std::uint64_t size = checked_mul(trailer->sector_count, kSector, "the disk's size");
  for (const ImageRun& run : runs) size = std::max(size, run.logical + run.length);
  image.bytes = std::make_shared<RunSource>(data, size, std::move(runs),
                                            [data](const ImageRun& run) { return decode_chunk(*data, run); });
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format udif_format() {
  return {
      .id = "udif",
      .name = "UDIF disk image",
      .family = "disk image",
      .specification = "none published; as commonly documented",
      .reads =
          "raw, empty, ADC, zlib, bzip2, LZFSE and LZMA (xz) chunks; tables in a property list or a resource "
          "fork; several segments beside each other, found by their id",
      .lacks = "",
      .suffixes = {".dmg", ".udif"},
      .single_stream = true,
      .recognise = recognise_udif,
      .open = open_udif,
      .records = {record_at_end<Trailer>("trailer", Trailer::size)}};
}

}  // namespace operculum
