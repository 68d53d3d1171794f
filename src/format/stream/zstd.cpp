// Zstandard (RFC 8878). Files in the seekable form (a seek table in a skippable frame at the end) give random
// access.
#include <zstd.h>

#include "base/cursor.h"
#include "base/error.h"
#include "container/identify.h"
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"
#include "io/block_source.h"

namespace operculum {
namespace {

constexpr std::uint32_t kFrameMagic = 0xFD2FB528;
constexpr std::uint32_t kSkippableMagic = 0x184D2A50;  // the low four bits are free
constexpr std::uint32_t kSeekTableMagic = 0x184D2A5E;  // seekable format: the frame that holds the table
constexpr std::uint32_t kSeekFooterMagic = 0x8F92EAB1;
constexpr std::size_t kSeekFooter = 9;
constexpr std::uint64_t kLargestFrame = 64 << 20;

/// Frames by the seek table; empty when there is none or it does not add up.
std::vector<Block> read_seek_table(const Source& source) {
  std::uint64_t size = source.size();
  if (size < kSeekFooter + 8) return {};
  Bytes footer = read_up_to(source, size - kSeekFooter, kSeekFooter);
  Cursor end(footer, "zstd seek table");
  std::uint64_t count = end.u32le();
  Byte descriptor = end.u8();
  if (end.u32le() != kSeekFooterMagic || (descriptor & 0x7c) != 0) return {};
  std::uint64_t entry_size = (descriptor & 0x80) != 0 ? 12 : 8;
  std::uint64_t table_size = count * entry_size + kSeekFooter;
  if (table_size + 8 > size) return {};
  Bytes table = read_exactly(source, size - table_size - 8, table_size + 8, "zstd seek table");
  Cursor cursor(table, "zstd seek table", size - table_size - 8);
  if (cursor.u32le() != kSeekTableMagic || cursor.u32le() != table_size) return {};
  std::vector<Block> blocks;
  std::uint64_t stored = 0, unpacked = 0;
  for (std::uint64_t i = 0; i < count; ++i) {
    std::uint32_t packed_size = cursor.u32le(), plain_size = cursor.u32le();
    cursor.skip(entry_size - 8);
    if (plain_size > kLargestFrame) return {};
    if (plain_size > 0) blocks.push_back({unpacked, plain_size, stored, packed_size});
    stored += packed_size;
    unpacked += plain_size;
  }
  return stored == size - table_size - 8 ? blocks : std::vector<Block>{};
}

Bytes decode_frame(const Source& source, const Block& block) {
  Bytes packed = read_exactly(source, block.stored_offset, block.stored_size, "zstd frame");
  Bytes out(static_cast<std::size_t>(block.unpacked_size));
  std::size_t size = ZSTD_decompress(out.data(), out.size(), packed.data(), packed.size());
  if (ZSTD_isError(size)) throw Malformed(std::string("zstd frame: ") + ZSTD_getErrorName(size));
  out.resize(size);
  return out;
}

Match recognise_zstd(Probe& probe) {
  ByteView head = probe.head(8);
  if (head.size() < 8) return Match::none;
  std::uint32_t magic = Cursor(head, "zstd frame").u32le();
  if (magic != kFrameMagic && (magic & 0xFFFFFFF0) != kSkippableMagic) return Match::none;
  Trial trial = try_decoding("zstd", probe);
  bool skippable = magic != kFrameMagic;
  return trial == Trial::fails                    ? Match::none
         : skippable && trial == Trial::too_short ? Match::weak
                                                  : Match::front;
}

ContainerPtr open_zstd_file(const Input& input, OpenContext&) {
  SingleStream stream{.codec = "zstd"};
  SourcePtr source = input.content->source();
  if (source) {
    std::vector<Block> blocks = read_seek_table(*source);
    if (!blocks.empty()) {
      stream.size = blocks.back().unpacked_offset + blocks.back().unpacked_size;
      stream.facts.emplace_back("frames", std::to_string(blocks.size()));
      stream.random = std::make_shared<BlockSource>(
          std::move(blocks), [source](const Block& b) { return decode_frame(*source, b); });
    }
  }
  return make_single_stream(input, std::move(stream), {{".zst", ""}, {".zstd", ""}, {".tzst", ".tar"}});
}

}  // namespace

Format zstd_format() {
  return {
      .id = "zstd",
      .name = "Zstandard file",
      .family = "stream",
      .specification = "RFC 8878; seekable format 0.1.0",
      .reads = "several frames, skippable frames, content checksums verified, random access by a seek table",
      .lacks = "dictionaries",
      .writes = "its frames, each packed with the settings of the original where they can be found",
      .suffixes = {".zst", ".zstd", ".tzst"},
      .single_stream = true,
      .forward = true,
      .codec = "zstd",
      .recognise = recognise_zstd,
      .open = open_zstd_file};
}

}  // namespace operculum
