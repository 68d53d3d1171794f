// Codecs and ciphers: anything decodes or is an Error; what was packed comes out again; what two decoders of
// ours, or ours and a library's, make of the same bytes is the same.
#include <bzlib.h>

#include <stdexcept>

#include "base/error.h"
#include "cipher/block_ciphers.h"
#include "codec/block.h"
#include "codec/codec.h"
#include "codec/lzh.h"
#include "codec/lzx.h"
#include "codec/lzx_pack.h"
#include "codec/mszip.h"
#include "codec/mszip_pack.h"
#include "codec/nrv.h"
#include "codec/run_ranges.h"
#include "codec/settings_search.h"
#include "fuzz/target.h"

namespace operculum::fuzz {
namespace {

constexpr std::uint64_t kMostBytes = 4 << 20, kMostOld = 1 << 16;
constexpr std::string_view kDecoders[] = {"deflate",    "deflate64", "zlib", "gzip", "bzip2",    "lzma",
                                          "lzma-alone", "xz",        "zstd", "lz4",  "compress", "brotli"};
constexpr std::string_view kEncoders[] = {"deflate", "zlib", "gzip", "bzip2",     "lzma-alone",
                                          "xz",      "zstd", "lz4",  "deflate64", "compress"};

SourcePtr source_of(ByteView bytes) {
  return make_memory_source(Bytes(bytes.begin(), bytes.end()));
}

std::optional<Bytes> decoded(std::string_view codec, ByteView packed, const CodecOptions& options = {}) {
  try {
    return read_all(*open_decoder(codec, make_source_stream(source_of(packed)), options), kMostBytes);
  } catch (const Error&) {
    return std::nullopt;
  }
}

void decode(std::string_view codec, ByteView bytes) {
  CodecOptions options;
  if (codec == "lzma" && bytes.size() >= 5) {
    options.properties = Bytes(bytes.begin(), bytes.begin() + 5);
    bytes = bytes.subspan(5);
  }
  auto streamed = decoded(codec, bytes, options);
  const Codec* found = find_codec(codec);
  if (!streamed || found->whole == nullptr || streamed->empty()) return;
  Bytes whole(streamed->size());
  if (found->whole(bytes, whole)) must(whole == *streamed, "a whole buffer and a stream");
}

/// Codecs that take a choice from their container: the first byte makes it.
void decode_old(ByteView bytes) {
  if (bytes.empty()) return;
  constexpr std::string_view kOld[] = {"shrink",  "reduce-1", "reduce-2", "reduce-3",   "reduce-4",
                                       "implode", "implode",  "implode",  "dcl-implode"};
  std::size_t kind = bytes[0] % std::size(kOld);
  CodecOptions options;
  options.properties = {static_cast<Byte>(bytes[0] >> 4)};
  if ((bytes[0] & 8) != 0) options.unpacked_size = kMostOld;
  decoded(kOld[kind], bytes.subspan(1), options);
}

void decode_nrv(ByteView bytes) {
  if (bytes.empty()) return;
  constexpr unsigned kWords[] = {8, 16, 32};
  NrvDialect dialect{static_cast<NrvForm>(bytes[0] % 3), kWords[bytes[0] / 3 % 3]};
  // Without a size the window is the largest there is, which costs most of the time.
  auto size = bytes[0] < std::size(kWords) * 3 ? std::nullopt : std::optional(kMostOld);
  try {
    read_all(*open_nrv(make_source_stream(source_of(bytes.subspan(1))), dialect, size), kMostBytes);
  } catch (const Error&) {
    // a clear error is a right answer
  }
}

/// Rules up to a line's end, then what is packed by them and comes out again.
void pack_run_ranges_and_unpack(ByteView bytes) {
  std::string_view all = as_text(bytes), text = all.substr(0, all.find('\n'));
  ByteView plain = bytes.subspan(std::min(text.size() + 1, bytes.size()));
  plain = plain.first(std::min<std::size_t>(plain.size(), 4096));  // packing tries every rule
  try {
    RunRules rules = parse_run_rules(text);
    Bytes packed = pack_run_ranges(plain, rules);
    Bytes back = read_all(*open_run_ranges(make_source_stream(source_of(packed)), rules), kMostBytes);
    must(std::equal(back.begin(), back.end(), plain.begin(), plain.end()), "run lengths packed and unpacked");
    read_all(*open_run_ranges(make_source_stream(source_of(plain)), rules), kMostBytes);
  } catch (const Error&) {
    // a clear error is a right answer
  }
}

void decode_blocks(ByteView bytes) {
  if (bytes.size() < 3) return;
  auto codec = static_cast<BlockCodec>(bytes[0] % 11);
  Bytes out((bytes[1] + 1u) * 512u);
  try {
    decode_block(codec, bytes.subspan(2), out);
  } catch (const Error&) {
    // a clear error is a right answer
  }
}

/// The first byte is the codec, the second its level.
void pack_and_unpack(ByteView bytes) {
  if (bytes.size() < 2) return;
  std::string_view codec = kEncoders[bytes[0] % std::size(kEncoders)];
  PackSettings settings;
  settings.level = bytes[1] % 9 + 1;
  ByteView plain = bytes.subspan(2);
  Bytes packed = encode(codec, plain, settings);
  auto back = decoded(codec, packed);
  must(back && std::equal(back->begin(), back->end(), plain.begin(), plain.end()), "packed and unpacked");
}

/// The encoders that are written here and are no entries of the table; the first byte says which.
void pack_frames_and_unpack(ByteView bytes) {
  if (bytes.empty()) return;
  ByteView plain = bytes.subspan(1);
  unsigned kind = bytes[0] % 3;
  Bytes back;
  auto take = [&](ByteView part) { back.insert(back.end(), part.begin(), part.end()); };
  if (kind == 0) {
    unsigned window = 8 + bytes[0] / 3 % 13;
    StreamPtr packed = pack_lzh(make_source_stream(source_of(plain)), window);
    take(read_all(*open_lzh(std::move(packed), window, plain.size()), kMostBytes));
  } else if (kind == 1) {
    unsigned window = 15 + bytes[0] / 3 % 7;
    LzxEncoder encoder(window);
    LzxDecoder decoder(window);
    for (std::size_t at = 0; at < plain.size(); at += LzxEncoder::kBlock) {
      for (const Bytes& frame :
           encoder.pack(plain.subspan(at, std::min(LzxEncoder::kBlock, plain.size() - at))))
        take(decoder.decode_frame(frame, std::min(LzxDecoder::kFrame, plain.size() - back.size())));
    }
  } else {
    MszipEncoder encoder(1 + bytes[0] / 3 % 9, 8);
    MszipDecoder decoder;
    while (back.size() < plain.size()) {
      std::size_t size = std::min(MszipDecoder::kBlock, plain.size() - back.size());
      Bytes packed = [&] {
        ByteView block = encoder.pack_block(plain.subspan(back.size(), size));
        return Bytes(block.begin(), block.end());
      }();
      take(decoder.decode_block(packed, size));
    }
  }
  must(std::equal(back.begin(), back.end(), plain.begin(), plain.end()), "packed in frames and unpacked");
}

/// Our finder of bzip2's blocks, which decodes them side by side, and the library in one go.
void compare_bzip2(ByteView bytes) {
  auto ours = decoded("bzip2", bytes);
  Bytes theirs(1 << 20);
  auto size = static_cast<unsigned>(theirs.size());
  int result = BZ2_bzBuffToBuffDecompress(reinterpret_cast<char*>(theirs.data()), &size,
                                          reinterpret_cast<char*>(const_cast<Byte*>(bytes.data())),
                                          static_cast<unsigned>(bytes.size()), 0, 0);
  if (result != BZ_OK) return;
  theirs.resize(size);
  // The library stops behind the first stream; ours goes on as bzip2's own program does.
  must(!ours || (ours->size() >= size && std::equal(theirs.begin(), theirs.end(), ours->begin())),
       "bzip2 by the library and by blocks");
}

void seal_and_open(ByteView bytes) {
  if (bytes.size() < 34) return;
  auto mode = static_cast<BlockMode>(bytes[0] % 3);
  ByteView key = bytes.subspan(1, 16), iv = bytes.subspan(17, 16), plain = bytes.subspan(33);
  auto cipher = [&, kind = bytes[0] / 3 % 4]() -> std::unique_ptr<BlockCipher> {
    if (kind == 0) return make_aes(key);
    if (kind == 1) return make_blowfish(key, WordOrder::big);
    if (kind == 2) return make_tea(key, WordOrder::little, 32);
    return make_xtea(key, WordOrder::big, 32);
  };
  StreamPtr sealed = seal_block_cipher(make_source_stream(source_of(plain)), cipher(), mode, iv);
  Bytes back = read_all(*open_block_cipher(std::move(sealed), cipher(), mode, iv), kMostBytes);
  must(std::equal(back.begin(), back.end(), plain.begin(), plain.end()), "sealed and opened");
}

}  // namespace

std::vector<Target> codec_targets() {
  std::vector<Target> all;
  for (std::string_view codec : kDecoders)
    all.push_back({"decode-" + std::string(codec), [codec](ByteView bytes) { decode(codec, bytes); }});
  all.push_back({"decode-old-zip", decode_old});
  all.push_back({"decode-nrv", decode_nrv});
  all.push_back({"run-ranges", pack_run_ranges_and_unpack});
  all.push_back({"decode-blocks", decode_blocks});
  all.push_back({"pack-and-unpack", pack_and_unpack});
  all.push_back({"pack-frames-and-unpack", pack_frames_and_unpack});
  all.push_back({"bzip2-twice", compare_bzip2});
  all.push_back({"seal-and-open", seal_and_open});
  return all;
}

}  // namespace operculum::fuzz
