#include "support/block_packer.h"

#include <bzlib.h>
#include <lz4.h>
#include <lzma.h>
#include <lzo/lzo1x.h>
#include <zlib.h>
#include <zstd.h>

#include <algorithm>
#include <bit>
#include <stdexcept>

namespace operculum::test {
namespace {

Bytes with_lzma(ByteView plain, lzma_ret started, lzma_stream& stream) {
  if (started != LZMA_OK) throw std::runtime_error("liblzma");
  Bytes out(plain.size() * 2 + 4096);
  stream.next_in = plain.data();
  stream.avail_in = plain.size();
  stream.next_out = out.data();
  stream.avail_out = out.size();
  if (lzma_code(&stream, LZMA_FINISH) != LZMA_STREAM_END) throw std::runtime_error("liblzma");
  out.resize(out.size() - stream.avail_out);
  lzma_end(&stream);
  return out;
}

}  // namespace

Bytes pack_block(BlockCodec codec, ByteView plain) {
  Bytes out(plain.size() * 2 + 4096);
  lzma_stream stream = LZMA_STREAM_INIT;
  lzma_options_lzma options{};
  lzma_lzma_preset(&options, 1);
  switch (codec) {
    case BlockCodec::stored:
      return {plain.begin(), plain.end()};
    case BlockCodec::deflate: {
      z_stream z{};
      deflateInit2(&z, 6, Z_DEFLATED, -15, 8, Z_DEFAULT_STRATEGY);
      z.next_in = const_cast<Byte*>(plain.data());
      z.avail_in = static_cast<uInt>(plain.size());
      z.next_out = out.data();
      z.avail_out = static_cast<uInt>(out.size());
      deflate(&z, Z_FINISH);
      out.resize(z.total_out);
      deflateEnd(&z);
      return out;
    }
    case BlockCodec::zlib: {
      uLongf size = out.size();
      compress2(out.data(), &size, plain.data(), plain.size(), 6);
      out.resize(size);
      return out;
    }
    case BlockCodec::bzip2: {
      auto size = static_cast<unsigned>(out.size());
      BZ2_bzBuffToBuffCompress(reinterpret_cast<char*>(out.data()), &size,
                               const_cast<char*>(reinterpret_cast<const char*>(plain.data())),
                               static_cast<unsigned>(plain.size()), 9, 0, 0);
      out.resize(size);
      return out;
    }
    case BlockCodec::lzma_alone:
      return with_lzma(plain, lzma_alone_encoder(&stream, &options), stream);
    case BlockCodec::micro_lzma:
      return with_lzma(plain, lzma_microlzma_encoder(&stream, &options), stream);
    case BlockCodec::xz: {  // with a window no larger than a block, as the kernel wants it
      options.dict_size =
          static_cast<std::uint32_t>(std::bit_ceil(std::max<std::size_t>(plain.size(), 8192)));
      lzma_filter filters[] = {{LZMA_FILTER_LZMA2, &options}, {LZMA_VLI_UNKNOWN, nullptr}};
      return with_lzma(plain, lzma_stream_encoder(&stream, filters, LZMA_CHECK_CRC32), stream);
    }
    case BlockCodec::lzo: {
      Bytes work(LZO1X_1_MEM_COMPRESS);
      lzo_uint size = out.size();
      lzo1x_1_compress(plain.data(), plain.size(), out.data(), &size, work.data());
      out.resize(size);
      return out;
    }
    case BlockCodec::lz4:
    case BlockCodec::lz4_partial:
      out.resize(static_cast<std::size_t>(LZ4_compress_default(
          reinterpret_cast<const char*>(plain.data()), reinterpret_cast<char*>(out.data()),
          static_cast<int>(plain.size()), static_cast<int>(out.size()))));
      return out;
    case BlockCodec::zstd:
      out.resize(ZSTD_compress(out.data(), out.size(), plain.data(), plain.size(), 3));
      return out;
  }
  throw std::runtime_error("no such codec");
}

}  // namespace operculum::test
