#include "codec/block.h"

#include <bzlib.h>
#include <fmt/format.h>
#include <libdeflate.h>
#include <lz4.h>
#include <lzma.h>
#include <lzo/lzo1x.h>
#include <zstd.h>

#include <algorithm>
#include <memory>
#include <optional>

#include "base/error.h"

namespace operculum {
namespace {

constexpr std::uint64_t kMemory = 128 << 20;  // for the dictionary of LZMA, in bytes

using Result = std::optional<std::size_t>;  // nothing: damaged

struct FreeDeflate {
  void operator()(libdeflate_decompressor* one) const { libdeflate_free_decompressor(one); }
};
libdeflate_decompressor* deflate_state() {
  thread_local std::unique_ptr<libdeflate_decompressor, FreeDeflate> state(libdeflate_alloc_decompressor());
  return state.get();
}

Result stored(ByteView packed, ByteSpan out) {
  if (packed.size() > out.size()) return std::nullopt;
  std::copy(packed.begin(), packed.end(), out.begin());
  return packed.size();
}

Result deflate(ByteView packed, ByteSpan out) {
  std::size_t used = 0, count = 0;
  auto result = libdeflate_deflate_decompress_ex(deflate_state(), packed.data(), packed.size(), out.data(),
                                                 out.size(), &used, &count);
  return result == LIBDEFLATE_SUCCESS ? Result(count) : std::nullopt;
}

Result zlib(ByteView packed, ByteSpan out) {
  std::size_t used = 0, count = 0;
  auto result = libdeflate_zlib_decompress_ex(deflate_state(), packed.data(), packed.size(), out.data(),
                                              out.size(), &used, &count);
  return result == LIBDEFLATE_SUCCESS ? Result(count) : std::nullopt;
}

Result bzip2(ByteView packed, ByteSpan out) {
  auto count = static_cast<unsigned>(out.size());
  int result = BZ2_bzBuffToBuffDecompress(reinterpret_cast<char*>(out.data()), &count,
                                          const_cast<char*>(reinterpret_cast<const char*>(packed.data())),
                                          static_cast<unsigned>(packed.size()), 0, 0);
  return result == BZ_OK ? Result(count) : std::nullopt;
}

/// Runs a decoder of liblzma over the whole block.
template <typename Start>
Result by_lzma(ByteView packed, ByteSpan out, Start start) {
  lzma_stream stream = LZMA_STREAM_INIT;
  if (start(stream) != LZMA_OK) return std::nullopt;
  stream.next_in = packed.data();
  stream.avail_in = packed.size();
  stream.next_out = out.data();
  stream.avail_out = out.size();
  lzma_ret result = lzma_code(&stream, LZMA_FINISH);
  std::size_t count = out.size() - stream.avail_out;
  lzma_end(&stream);
  return result == LZMA_STREAM_END || (result == LZMA_OK && stream.avail_out == 0) ? Result(count)
                                                                                   : std::nullopt;
}

Result lzma_alone(ByteView packed, ByteSpan out) {
  return by_lzma(packed, out, [](lzma_stream& stream) { return lzma_alone_decoder(&stream, kMemory); });
}

Result micro_lzma(ByteView packed, ByteSpan out) {
  return by_lzma(packed, out, [&](lzma_stream& stream) {
    return lzma_microlzma_decoder(&stream, packed.size(), out.size(), false, 8 << 20);
  });
}

Result xz(ByteView packed, ByteSpan out) {
  std::uint64_t memory = kMemory;
  std::size_t used = 0, count = 0;
  lzma_ret result = lzma_stream_buffer_decode(&memory, 0, nullptr, packed.data(), &used, packed.size(),
                                              out.data(), &count, out.size());
  return result == LZMA_OK ? Result(count) : std::nullopt;
}

Result lzo(ByteView packed, ByteSpan out) {
  lzo_uint count = out.size();
  int result = lzo1x_decompress_safe(packed.data(), packed.size(), out.data(), &count, nullptr);
  return result == LZO_E_OK || result == LZO_E_INPUT_NOT_CONSUMED ? Result(count) : std::nullopt;
}

Result lz4(ByteView packed, ByteSpan out) {
  int count =
      LZ4_decompress_safe(reinterpret_cast<const char*>(packed.data()), reinterpret_cast<char*>(out.data()),
                          static_cast<int>(packed.size()), static_cast<int>(out.size()));
  return count >= 0 ? Result(static_cast<std::size_t>(count)) : std::nullopt;
}

Result lz4_partial(ByteView packed, ByteSpan out) {
  auto room = static_cast<int>(out.size());
  int count = LZ4_decompress_safe_partial(reinterpret_cast<const char*>(packed.data()),
                                          reinterpret_cast<char*>(out.data()),
                                          static_cast<int>(packed.size()), room, room);
  return count >= 0 ? Result(static_cast<std::size_t>(count)) : std::nullopt;
}

Result zstd(ByteView packed, ByteSpan out) {
  struct Free {
    void operator()(ZSTD_DCtx* one) const { ZSTD_freeDCtx(one); }
  };
  thread_local std::unique_ptr<ZSTD_DCtx, Free> state(ZSTD_createDCtx());
  std::size_t frame = ZSTD_findFrameCompressedSize(packed.data(), packed.size());  // padding may follow
  if (ZSTD_isError(frame) != 0) return std::nullopt;
  std::size_t count = ZSTD_decompressDCtx(state.get(), out.data(), out.size(), packed.data(), frame);
  return ZSTD_isError(count) == 0 ? Result(count) : std::nullopt;
}

struct Row {
  BlockCodec codec;
  std::string_view name;
  Result (*decode)(ByteView packed, ByteSpan out);
};
constexpr Row kRows[] = {
    {BlockCodec::stored, "stored", stored},
    {BlockCodec::deflate, "deflate", deflate},
    {BlockCodec::zlib, "zlib", zlib},
    {BlockCodec::bzip2, "bzip2", bzip2},
    {BlockCodec::lzma_alone, "lzma", lzma_alone},
    {BlockCodec::micro_lzma, "lzma", micro_lzma},
    {BlockCodec::xz, "xz", xz},
    {BlockCodec::lzo, "lzo", lzo},
    {BlockCodec::lz4, "lz4", lz4},
    {BlockCodec::lz4_partial, "lz4", lz4_partial},
    {BlockCodec::zstd, "zstd", zstd},
};

const Row& row_of(BlockCodec codec) {
  return *std::find_if(std::begin(kRows), std::end(kRows),
                       [&](const Row& row) { return row.codec == codec; });
}

}  // namespace

std::string_view name_of(BlockCodec codec) {
  return row_of(codec).name;
}

std::size_t decode_lzma(const LzmaBlock& block, ByteSpan out) {
  lzma_options_lzma options{};
  options.dict_size = static_cast<std::uint32_t>(std::max<std::size_t>(out.size(), LZMA_DICT_SIZE_MIN));
  options.lc = block.properties % 9;
  options.lp = block.properties / 9 % 5;
  options.pb = block.properties / 45;
  lzma_filter filters[] = {{LZMA_FILTER_LZMA1, &options}, {LZMA_VLI_UNKNOWN, nullptr}};
  lzma_stream stream = LZMA_STREAM_INIT;
  bool possible = block.properties < LzmaBlock::kProperties && lzma_raw_decoder(&stream, filters) == LZMA_OK;
  stream.next_in = block.packed.data();
  stream.avail_in = block.packed.size();
  stream.next_out = out.data();
  stream.avail_out = out.size();
  lzma_ret result = possible ? lzma_code(&stream, LZMA_RUN) : LZMA_OPTIONS_ERROR;
  std::size_t count = out.size() - stream.avail_out;
  lzma_end(&stream);
  if ((result != LZMA_OK && result != LZMA_STREAM_END && result != LZMA_BUF_ERROR) || count == 0)
    throw Malformed(
        fmt::format("an lzma block of {} bytes without a header does not decode; the data is damaged",
                    block.packed.size()));
  return count;
}

std::size_t decode_block(BlockCodec codec, ByteView packed, ByteSpan out) {
  const Row& row = row_of(codec);
  if (Result count = row.decode(packed, out)) return *count;
  throw Malformed(fmt::format(
      "a block of {} bytes, packed by {}, does not decode to the {} bytes expected; the data is damaged",
      packed.size(), row.name, out.size()));
}

}  // namespace operculum
