#include "io/chunk_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"

namespace operculum {
namespace {
constexpr std::uint64_t kMostChunks = 16 << 20;
}

ContentPtr make_chunk_content(const SourcePtr& bytes, std::vector<Block> chunks,
                              std::function<void(ByteView, ByteSpan)> decode) {
  return make_block_content(
      std::move(chunks), [bytes, decode = std::move(decode)](const Block& block, ByteSpan out) {
        Bytes packed = read_exactly(*bytes, block.stored_offset, block.stored_size, "a packed chunk");
        if (packed.size() == out.size()) {
          std::copy(packed.begin(), packed.end(), out.begin());
        } else {
          decode(packed, out);
        }
      });
}

ContentPtr make_chunk_content(const SourcePtr& bytes, const ChunkTable& table,
                              std::function<void(ByteView, ByteSpan)> decode) {
  if (table.size == 0) return make_content(make_memory_source({}));
  std::uint64_t count = (table.size - 1) / table.chunk + 1, width = table.size > UINT32_MAX ? 8 : 4;
  std::uint64_t rows_size = (count - 1) * width;
  if (count > kMostChunks || rows_size > table.stored)
    throw Malformed(fmt::format("it states {} bytes in {}, which is not possible", table.size, table.stored));
  Bytes rows = read_exactly(*bytes, table.offset, rows_size, "chunk table");
  LittleFields f(rows, "chunk table", table.offset);
  std::uint64_t room = table.stored - rows_size;
  auto start = [&](std::uint64_t index) -> std::uint64_t {
    if (index == 0) return 0;
    if (index == count) return room;
    auto at = static_cast<std::size_t>((index - 1) * width);
    return width == 8 ? f.u64(at) : f.u32(at);
  };
  std::vector<Block> chunks;
  for (std::uint64_t i = 0; i < count; ++i) {
    std::uint64_t from = start(i), to = start(i + 1),
                  unpacked = std::min<std::uint64_t>(table.chunk, table.size - i * table.chunk);
    if (to <= from || to > room || to - from > unpacked)
      throw Malformed(fmt::format("its chunk {} has an impossible place", i + 1));
    chunks.push_back({i * table.chunk, unpacked, table.offset + rows_size + from, to - from, 0});
  }
  return make_chunk_content(bytes, std::move(chunks), std::move(decode));
}

}  // namespace operculum
