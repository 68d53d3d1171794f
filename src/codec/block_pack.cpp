#include "codec/block_pack.h"

#include <fmt/format.h>
#include <lz4.h>
#include <lz4hc.h>
#include <lzma.h>
#include <lzo/lzo1x.h>
#include <zlib.h>
#include <zstd.h>

#include <algorithm>
#include <array>
#include <memory>
#include <new>

#include "base/error.h"
#include "base/numbers.h"
#include "codec/pack_settings.h"

namespace operculum {
namespace {

using Packed = std::optional<Bytes>;

Packed zlib_once(ByteView plain, const BlockPacking& packing, int strategy) {
  z_stream state{};
  if (deflateInit2(&state, packing.level.value_or(9), Z_DEFLATED, packing.window_bits, 8, strategy) != Z_OK)
    throw Unsupported("packing with these settings of zlib");
  std::unique_ptr<z_stream, int (*)(z_stream*)> end(&state, deflateEnd);
  Bytes out(plain.size());
  state.next_in = const_cast<Byte*>(plain.data());
  state.avail_in = static_cast<uInt>(plain.size());
  state.next_out = out.data();
  state.avail_out = static_cast<uInt>(out.size());
  if (::deflate(&state, Z_FINISH) != Z_STREAM_END) return std::nullopt;
  out.resize(state.total_out);
  return out;
}

void keep_smaller(Packed& best, Packed other) {
  if (other && (!best || other->size() < best->size())) best = std::move(other);
}

Packed zlib(ByteView plain, const BlockPacking& packing) {
  Packed best;
  for (int strategy : packing.strategies) keep_smaller(best, zlib_once(plain, packing, strategy));
  return best;
}

lzma_options_lzma lzma_options(ByteView plain, const BlockPacking& packing) {
  lzma_options_lzma options;
  if (lzma_lzma_preset(&options, static_cast<std::uint32_t>(packing.level.value_or(6))) != 0)
    throw Unsupported("packing with this level of LZMA");
  auto whole = static_cast<std::uint32_t>(plain.size());
  options.dict_size = std::max<std::uint32_t>(whole, LZMA_DICT_SIZE_MIN);
  if (packing.dictionary_size != 0) options.dict_size = std::min(packing.dictionary_size, kLargestDictionary);
  return options;
}

Packed lzma_alone(ByteView plain, const BlockPacking& packing) {
  constexpr std::size_t kSizeAt = 5;
  lzma_options_lzma options = lzma_options(plain, packing);
  lzma_stream state = LZMA_STREAM_INIT;
  if (lzma_alone_encoder(&state, &options) != LZMA_OK) throw std::bad_alloc();
  std::unique_ptr<lzma_stream, void (*)(lzma_stream*)> end(&state, lzma_end);
  Bytes out(plain.size());
  state.next_in = plain.data();
  state.avail_in = plain.size();
  state.next_out = out.data();
  state.avail_out = out.size();
  if (lzma_code(&state, LZMA_FINISH) != LZMA_STREAM_END) return std::nullopt;
  out.resize(state.total_out);
  store_number(out.data() + kSizeAt, 8, plain.size());  // which the library leaves open
  return out;
}

Packed xz_once(ByteView plain, const BlockPacking& packing, std::optional<std::uint64_t> filter) {
  lzma_options_lzma options = lzma_options(plain, packing);
  std::array<lzma_filter, 3> filters{};
  std::size_t count = 0;
  if (filter) filters[count++] = {*filter, nullptr};
  filters[count++] = {LZMA_FILTER_LZMA2, &options};
  filters[count] = {LZMA_VLI_UNKNOWN, nullptr};
  Bytes out(plain.size());
  std::size_t made = 0;
  lzma_ret result = lzma_stream_buffer_encode(filters.data(), LZMA_CHECK_CRC32, nullptr, plain.data(),
                                              plain.size(), out.data(), &made, out.size());
  if (result == LZMA_BUF_ERROR) return std::nullopt;  // no room: it would be larger
  if (result == LZMA_MEM_ERROR) throw std::bad_alloc();
  if (result != LZMA_OK) throw Unsupported("packing with these settings of xz");
  out.resize(made);
  return out;
}

Packed xz(ByteView plain, const BlockPacking& packing) {
  Packed best = xz_once(plain, packing, std::nullopt);
  for (std::uint64_t filter : packing.filters) keep_smaller(best, xz_once(plain, packing, filter));
  return best;
}

Packed lzo(ByteView plain, const BlockPacking& packing) {
  Bytes out(plain.size() + plain.size() / 16 + 64 + 3);  // the bound that the library's manual gives
  thread_local Bytes work(LZO1X_999_MEM_COMPRESS);
  lzo_uint made = out.size();
  static constexpr decltype(&lzo1x_1_compress) kFast[] = {lzo1x_1_compress, lzo1x_1_11_compress,
                                                          lzo1x_1_12_compress, lzo1x_1_15_compress};
  int result = packing.variant < std::size(kFast)
                   ? kFast[packing.variant](plain.data(), plain.size(), out.data(), &made, work.data())
                   : lzo1x_999_compress_level(plain.data(), plain.size(), out.data(), &made, work.data(),
                                              nullptr, 0, nullptr, packing.level.value_or(8));
  if (packing.variant >= std::size(kFast) && result == LZO_E_OK) {
    Bytes plain_again(plain.size());
    lzo_uint size = plain_again.size();
    result = lzo1x_optimize(out.data(), made, plain_again.data(), &size, nullptr);
  }
  if (result != LZO_E_OK) throw Unsupported("packing with these settings of LZO");
  out.resize(made);
  return out;
}

Packed lz4(ByteView plain, const BlockPacking& packing) {
  Bytes out(plain.size());
  const char* from = reinterpret_cast<const char*>(plain.data());
  char* to = reinterpret_cast<char*>(out.data());
  auto size = static_cast<int>(plain.size());
  int made = packing.level ? LZ4_compress_HC(from, to, size, size, *packing.level)
                           : LZ4_compress_default(from, to, size, size);
  if (made <= 0) return std::nullopt;
  out.resize(static_cast<std::size_t>(made));
  return out;
}

Packed zstd(ByteView plain, const BlockPacking& packing) {
  struct Free {
    void operator()(ZSTD_CCtx* one) const { ZSTD_freeCCtx(one); }
  };
  thread_local std::unique_ptr<ZSTD_CCtx, Free> state(ZSTD_createCCtx());
  if (!state) throw std::bad_alloc();
  Bytes out(ZSTD_compressBound(plain.size()));
  std::size_t made = ZSTD_compressCCtx(state.get(), out.data(), out.size(), plain.data(), plain.size(),
                                       packing.level.value_or(15));
  if (ZSTD_isError(made) != 0) throw Unsupported("packing with these settings of zstd");
  out.resize(made);
  return out;
}

struct Row {
  BlockCodec codec;
  Packed (*pack)(ByteView plain, const BlockPacking& packing);
};
constexpr Row kRows[] = {{BlockCodec::zlib, zlib}, {BlockCodec::lzma_alone, lzma_alone},
                         {BlockCodec::xz, xz},     {BlockCodec::lzo, lzo},
                         {BlockCodec::lz4, lz4},   {BlockCodec::zstd, zstd}};

}  // namespace

std::optional<Bytes> pack_block(BlockCodec codec, ByteView plain, const BlockPacking& packing) {
  auto row =
      std::find_if(std::begin(kRows), std::end(kRows), [&](const Row& one) { return one.codec == codec; });
  if (row == std::end(kRows)) throw Unsupported(fmt::format("packing blocks with {}", name_of(codec)));
  Packed made = row->pack(plain, packing);
  if (made && made->size() >= plain.size()) made.reset();
  return made;
}

}  // namespace operculum
