// xz (.xz file format 1.1.0) and LZMA alone. The index at the end of an xz file gives sizes, and random
// access when the data was packed in several blocks.
#include <lzma.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "codec/block.h"
#include "codec/lzma_head.h"
#include "container/identify.h"
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"
#include "io/block_source.h"

namespace operculum {
namespace {

constexpr std::string_view kMagic{
    "\xfd"
    "7zXZ\0",
    6};
constexpr std::uint64_t kIndexMemory = 256 << 20;
constexpr std::uint64_t kLargestBlock = 64 << 20;  // a larger one is not worth decoding for one entry

struct Index {
  lzma_index* handle = nullptr;
  Index() = default;
  Index(const Index&) = delete;
  Index& operator=(const Index&) = delete;
  ~Index() { lzma_index_end(handle, nullptr); }
};

struct FileInfo {
  lzma_stream state = LZMA_STREAM_INIT;
  FileInfo() = default;
  FileInfo(const FileInfo&) = delete;
  FileInfo& operator=(const FileInfo&) = delete;
  ~FileInfo() { lzma_end(&state); }
};

/// Reads the index of every stream of the file from its end; false when there is none that can be used.
bool read_index(const SourcePtr& file, Index& index) {
  constexpr std::uint64_t kPadding = 4;  // what lies behind a stream is a multiple of it (.xz format 2.2)
  SourcePtr stored = make_slice(file, 0, (end_of_data(*file) + kPadding - 1) / kPadding * kPadding);
  const Source& source = *stored;
  FileInfo info;
  lzma_stream& state = info.state;
  if (lzma_file_info_decoder(&state, &index.handle, kIndexMemory, source.size()) != LZMA_OK) return false;
  Bytes buffer(64 * 1024);
  std::uint64_t at = 0;
  lzma_ret result = LZMA_OK;
  while (result == LZMA_OK) {
    if (state.avail_in == 0) {
      std::size_t count = source.read_at(at, buffer);
      at += count;
      state.next_in = buffer.data();
      state.avail_in = count;
    }
    result = lzma_code(&state, state.avail_in == 0 ? LZMA_FINISH : LZMA_RUN);
    if (result == LZMA_SEEK_NEEDED) {
      at = state.seek_pos;
      state.avail_in = 0;
      result = LZMA_OK;
    }
  }
  return result == LZMA_STREAM_END;
}

Bytes decode_block(const Source& source, const Block& place, lzma_check check) {
  Bytes packed = read_exactly(source, place.stored_offset, place.stored_size, "xz block");
  lzma_filter filters[LZMA_FILTERS_MAX + 1];
  lzma_block block{};
  block.version = 1;
  block.check = check;
  block.filters = filters;
  block.header_size = lzma_block_header_size_decode(packed.at(0));
  Bytes out(static_cast<std::size_t>(place.unpacked_size));  // before the filters, which nobody else frees
  if (packed[0] == 0 || block.header_size > packed.size() ||
      lzma_block_header_decode(&block, nullptr, packed.data()) != LZMA_OK) {
    throw Malformed("xz block: its header is damaged");
  }
  std::size_t in_at = block.header_size, out_at = 0;
  lzma_ret result = lzma_block_buffer_decode(&block, nullptr, packed.data(), &in_at, packed.size(),
                                             out.data(), &out_at, out.size());
  lzma_filters_free(filters, nullptr);
  if (result != LZMA_OK || out_at != out.size()) throw Malformed("xz block: the data is damaged");
  return out;
}

/// Random access through the index; null when the file is one block or its blocks are huge.
SourcePtr random_access_by_index(const SourcePtr& source, const Index& index) {
  struct Place {
    std::vector<Block> blocks;
    std::vector<lzma_check> checks;
  };
  Place place;
  lzma_index_iter it;
  lzma_index_iter_init(&it, index.handle);
  while (!lzma_index_iter_next(&it, LZMA_INDEX_ITER_NONEMPTY_BLOCK)) {
    if (it.block.uncompressed_size > kLargestBlock) return nullptr;
    place.blocks.push_back({it.block.uncompressed_file_offset, it.block.uncompressed_size,
                            it.block.compressed_file_offset, it.block.total_size});
    place.checks.push_back(it.stream.flags == nullptr ? LZMA_CHECK_NONE : it.stream.flags->check);
  }
  if (place.blocks.size() < 2) return nullptr;
  std::vector<Block> blocks = place.blocks;
  auto decode = [source, place = std::move(place)](const Block& block) {
    auto found = std::lower_bound(place.blocks.begin(), place.blocks.end(), block.unpacked_offset,
                                  [](const Block& b, std::uint64_t at) { return b.unpacked_offset < at; });
    return decode_block(*source, block, place.checks[static_cast<std::size_t>(found - place.blocks.begin())]);
  };
  return std::make_shared<BlockSource>(std::move(blocks), std::move(decode));
}

/// The streams, one behind another; nothing where there is one.
std::vector<PackedMember> members_by_index(const Index& index) {
  std::vector<PackedMember> members;
  if (lzma_index_stream_count(index.handle) < 2) return members;
  lzma_index_iter it;
  lzma_index_iter_init(&it, index.handle);
  while (!lzma_index_iter_next(&it, LZMA_INDEX_ITER_STREAM))
    members.push_back({it.stream.compressed_offset, it.stream.compressed_size, it.stream.uncompressed_offset,
                       it.stream.uncompressed_size});
  return members;
}

Match recognise_xz(Probe& probe) {
  ByteView head = probe.head(12);
  if (head.size() < 12 || !starts_with(head, kMagic)) return Match::none;
  lzma_stream_flags flags;
  return lzma_stream_header_decode(&flags, head.data()) == LZMA_OK ? Match::front : Match::none;
}

ContainerPtr open_xz_file(const Input& input, OpenContext&) {
  SingleStream stream{.codec = "xz"};
  Index index;
  SourcePtr source = input.content->source();
  bool indexed = source && read_index(source, index);
  if (indexed) {
    stream.size = lzma_index_uncompressed_size(index.handle);
    stream.random = random_access_by_index(source, index);
    stream.members = members_by_index(index);
    lzma_vli blocks = lzma_index_block_count(index.handle);
    if (blocks > 1) stream.facts.emplace_back("blocks", std::to_string(blocks));
  }
  ContainerPtr container = make_single_stream(input, std::move(stream), {{".xz", ""}, {".txz", ".tar"}});
  if (source && !indexed) {
    container->add_finding(Finding::Level::warning,
                           "the xz index at the end is missing or damaged, so the file may be cut short; the "
                           "size is not known before it is unpacked");
  }
  return container;
}

/// LZMA alone has no magic: five property bytes as packers write them, a size that makes sense, and data that
/// decodes.
Match recognise_lzma(Probe& probe) {
  ByteView head = probe.head(14);
  if (head.size() < 14) return Match::none;
  Cursor cursor(head, "lzma header");
  Byte properties = cursor.u8();
  std::uint32_t window = cursor.u32le();
  std::uint64_t size = cursor.u64le();
  bool usual_window = window == UINT32_MAX || is_usual_lzma_window(window);
  bool usual_size = size == UINT64_MAX || size < (std::uint64_t{1} << 38);
  if (properties >= LzmaBlock::kProperties || !usual_window || window < 4096 || !usual_size || size == 0 ||
      cursor.u8() != 0)
    return Match::none;
  Trial trial = try_decoding("lzma-alone", probe, 4096);
  return trial == Trial::decodes ? Match::front : trial == Trial::too_short ? Match::weak : Match::none;
}

ContainerPtr open_lzma_file(const Input& input, OpenContext&) {
  SingleStream stream{.codec = "lzma-alone"};
  Probe probe = make_probe(*input.content, input.name);
  Cursor cursor(probe.head(13), "lzma header");
  cursor.skip(5);
  std::uint64_t size = cursor.u64le();
  if (size != UINT64_MAX) stream.size = size;
  return make_single_stream(input, std::move(stream), {{".lzma", ""}, {".tlz", ".tar"}});
}

}  // namespace

Format xz_format() {
  return {
      .id = "xz",
      .name = "xz file",
      .family = "stream",
      .specification = ".xz file format 1.1.0",
      .reads =
          "several streams and blocks (decoded side by side), padding, all checks verified, random "
          "access by the index",
      .lacks = "",
      .writes =
          "streams as they were, packed with the settings and blocks of the original where they can be found",
      .suffixes = {".xz", ".txz"},
      .single_stream = true,
      .forward = true,
      .codec = "xz",
      .checks_data = true,
      .recognise = recognise_xz,
      .open = open_xz_file};
}

Format lzma_format() {
  return {.id = "lzma",
          .name = "LZMA file",
          .family = "stream",
          .specification = "LZMA specification (2015), .lzma header",
          .reads = "known and unknown sizes; the format has no checksum",
          .lacks = "",
          .writes = "one stream, packed with the settings of the original where they can be found",
          .suffixes = {".lzma", ".tlz"},
          .single_stream = true,
          .forward = true,
          .codec = "lzma-alone",
          .recognise = recognise_lzma,
          .open = open_lzma_file};
}

}  // namespace operculum
