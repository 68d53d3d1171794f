// Android sparse images: a header and chunks of raw bytes, fill patterns, holes and checksums, after the
// header of Android's libsparse (sparse_format.h).
#include <fmt/format.h>

#include <algorithm>

#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "io/run_source.h"

namespace operculum {
namespace {

/// `file_hdr_sz` bytes at the front, of which these are known.
struct SparseHeader {
  std::uint32_t magic = 0;
  std::uint16_t major_version = 0, minor_version = 0, file_hdr_sz = 0, chunk_hdr_sz = 0;
  std::uint32_t blk_sz = 0, total_blks = 0, total_chunks = 0, image_checksum = 0;
  static constexpr auto layout = little_endian(
      field("magic", &SparseHeader::magic), field("major_version", &SparseHeader::major_version),
      field("minor_version", &SparseHeader::minor_version), field("file_hdr_sz", &SparseHeader::file_hdr_sz),
      field("chunk_hdr_sz", &SparseHeader::chunk_hdr_sz), field("blk_sz", &SparseHeader::blk_sz),
      field("total_blks", &SparseHeader::total_blks), field("total_chunks", &SparseHeader::total_chunks),
      field("image_checksum", &SparseHeader::image_checksum));
};

/// In front of each chunk's data.
struct ChunkHeader {
  std::uint16_t chunk_type = 0, reserved1 = 0;
  std::uint32_t chunk_sz = 0;  ///< blocks of the image
  std::uint32_t total_sz = 0;  ///< bytes of the file, with this header
  static constexpr auto layout = little_endian(
      field("chunk_type", &ChunkHeader::chunk_type), field("reserved1", &ChunkHeader::reserved1),
      field("chunk_sz", &ChunkHeader::chunk_sz), field("total_sz", &ChunkHeader::total_sz));
};

constexpr std::uint32_t kMagic = 0xED26FF3A;
enum ChunkType : std::uint16_t {
  chunk_raw = 0xCAC1,
  chunk_fill = 0xCAC2,
  chunk_dont_care = 0xCAC3,
  chunk_crc32 = 0xCAC4
};
constexpr std::size_t kFileHeader = size_on_disk<SparseHeader>, kChunkHeader = size_on_disk<ChunkHeader>;
static_assert(kFileHeader == 28 && kChunkHeader == 12);
constexpr std::size_t kPattern = 4096;
constexpr unsigned kMostParts = 1000;

struct Parsed {
  std::uint64_t size = 0, block = 0;
  std::uint64_t known = 0;  // what the chunks that are there cover
  std::vector<ImageRun> runs;
  std::optional<std::uint32_t> crc32;
};

/// The chunks of one file, which lies at `base` among all parts.
Parsed parse(const Source& file, std::uint64_t base, std::vector<Finding>& findings) {
  Bytes head = read_exactly(file, 0, kFileHeader, "Android sparse header");
  auto h = read_structure<SparseHeader>(head.data());
  if (h.magic != kMagic) throw Malformed("Android sparse header: the magic is missing");
  if (h.major_version != 1)
    throw Unsupported(fmt::format("Android sparse images of version {}", h.major_version));
  std::uint64_t at = h.file_hdr_sz, chunk_header = h.chunk_hdr_sz;
  Parsed out;
  out.block = h.blk_sz;
  out.size = out.block * h.total_blks;
  if (at < kFileHeader || chunk_header < kChunkHeader || out.block == 0 || out.block % 4 != 0 ||
      out.block > (64 << 20))
    throw Malformed(fmt::format(
        "Android sparse header: expected headers of {} and {} bytes at least and blocks of a multiple of 4 "
        "up to 64 MiB, found {}, {} and {}",
        kFileHeader, kChunkHeader, at, chunk_header, out.block));
  std::uint64_t logical = 0;
  for (std::uint32_t i = 0, count = h.total_chunks; i < count; ++i) {
    Bytes raw = read_up_to(file, at, kChunkHeader);
    if (raw.size() < kChunkHeader) {
      findings.push_back({Finding::Level::fault,
                          fmt::format("the image is cut short: {} of {} chunks are there", i, count)});
      out.known = logical;
      return out;
    }
    auto chunk = read_structure<ChunkHeader>(raw.data());
    std::uint64_t length = chunk.chunk_sz * out.block, total = chunk.total_sz, data = at + chunk_header;
    if (total < chunk_header || logical + length > out.size)
      throw Malformed(
          fmt::format("Android sparse chunk at offset {}: {} bytes, {} with its header, do not fit into the "
                      "{} of the image that are left",
                      at, length, total, out.size - std::min(logical, out.size)));
    switch (chunk.chunk_type) {
      case chunk_raw:
        if (total - chunk_header != length)
          refuse_field("Android sparse chunk", at, &ChunkHeader::total_sz,
                       fmt::format("{}, its header and its blocks", chunk_header + length),
                       std::to_string(total));
        if (length > 0) out.runs.push_back({logical, length, MappedRun::From::stored, base + data, 0, 0});
        break;
      case chunk_fill:
        if (length > 0) out.runs.push_back({logical, length, MappedRun::From::packed, base + data, 4, 0});
        break;
      case chunk_dont_care:
        break;
      case chunk_crc32:
        if (logical == out.size)
          out.crc32 =
              load_little<std::uint32_t>(read_exactly(file, data, 4, "Android sparse checksum").data());
        break;
      default:
        throw Malformed(fmt::format("Android sparse chunk at offset {}: there is no chunk type {:#06x}", at,
                                    chunk.chunk_type));
    }
    logical += length;
    at += total;
  }
  out.known = out.size;
  return out;
}

/// Files of a split image: NAME0, NAME1 and so on, each with the chunks that the others leave out.
std::vector<SourcePtr> find_parts(const Input& input, const SourcePtr& own) {
  std::string_view name = base_name(input.name);
  std::size_t digits = name.find_last_not_of("0123456789");
  bool split_name = digits != std::string_view::npos && digits + 1 < name.size() &&
                    to_lower(name).find("sparse") != std::string::npos;
  if (!split_name || !input.sibling) return {own};
  std::string stem(name.substr(0, digits + 1));
  std::vector<SourcePtr> parts;
  for (unsigned i = 0; i < kMostParts; ++i) {
    SourcePtr part = stem + std::to_string(i) == name ? own : input.sibling(stem + std::to_string(i));
    if (!part && i > 0) break;
    if (part) parts.push_back(part);
  }
  return parts;
}

Match recognise_android_sparse(Probe& probe) {
  ByteView head = probe.head(kFileHeader);
  return head.size() == kFileHeader && load_little<std::uint32_t>(head.data()) == kMagic ? Match::front
                                                                                         : Match::none;
}

ContainerPtr open_android_sparse(const Input& input, OpenContext& context) {
  SourcePtr own = random_access(*input.content, context.spool);
  std::vector<SourcePtr> parts = find_parts(input, own);
  DiskImage image;
  Parsed all = parse(*parts[0], 0, image.findings);
  std::uint64_t base = parts[0]->size();
  if (parts.size() == 1 && all.known < all.size)  // to be read is to be told that it is missing
    all.runs.push_back({all.known, all.size - all.known, MappedRun::From::stored, base, 0, 0});
  for (std::size_t i = 1; i < parts.size(); ++i) {
    Parsed more = parse(*parts[i], base, image.findings);
    all.runs.insert(all.runs.end(), more.runs.begin(), more.runs.end());
    all.size = std::max(all.size, more.size);
    all.crc32.reset();
    base += parts[i]->size();
  }
  if (parts.size() > 1) image.facts.emplace_back("parts", std::to_string(parts.size()));
  image.facts.emplace_back("block", fmt::format("{} bytes", all.block));
  image.crc32 = all.crc32;
  SourcePtr whole = parts.size() == 1 ? own : make_joined(parts);
  image.bytes =
      std::make_shared<RunSource>(whole, all.size, std::move(all.runs), [whole](const ImageRun& run) {
        Bytes word = read_exactly(*whole, run.at, 4, "Android sparse fill pattern"), out;
        for (std::size_t i = 0; i < kPattern; ++i) out.push_back(word[i % 4]);
        return out;
      });
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format android_sparse_format() {
  return {
      .id = "android-sparse",
      .name = "Android sparse image",
      .family = "disk image",
      .specification = "Android libsparse, sparse_format.h (version 1.0)",
      .reads =
          "raw, fill and empty chunks; the checksum over the whole; split images whose parts lie beside it",
      .lacks = "checksums in the middle of an image",
      .suffixes = {".simg", ".sparse"},
      .single_stream = true,
      .recognise = recognise_android_sparse,
      .open = open_android_sparse,
      .records = {record_at<SparseHeader>("header", 0)}};
}

}  // namespace operculum
