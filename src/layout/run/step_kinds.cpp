// The codecs and ciphers of the language: one line each, with their parameters.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "cipher/block_ciphers.h"
#include "cipher/byte_ciphers.h"
#include "codec/adc.h"
#include "codec/codec.h"
#include "codec/lzfse.h"
#include "codec/lzh.h"
#include "codec/lzhuf.h"
#include "codec/lznt1.h"
#include "codec/lzss.h"
#include "codec/lzvn.h"
#include "codec/lzw.h"
#include "codec/lzx.h"
#include "codec/nrv.h"
#include "codec/quantum.h"
#include "codec/raw_blocks.h"
#include "codec/run_length.h"
#include "codec/run_ranges.h"
#include "codec/xpress.h"
#include "io/first_bytes.h"
#include "layout/run/step_arguments.h"

namespace operculum::layout {
namespace {

using Size = std::optional<std::uint64_t>;
using Kind = ParameterKind;

/// A codec of the program's table under its own name.
template <const char* Name>
StreamPtr open_by_name(StreamPtr packed, const StepArguments&, Size size) {
  CodecOptions options;
  options.unpacked_size = size;
  return open_decoder(Name, std::move(packed), options);
}

constexpr char kStored[] = "stored", kDeflate[] = "deflate", kDeflate64[] = "deflate64", kZlib[] = "zlib",
               kGzip[] = "gzip", kBzip2[] = "bzip2", kXz[] = "xz", kLzmaAlone[] = "lzma-alone",
               kZstd[] = "zstd", kLz4[] = "lz4", kCompress[] = "compress", kBrotli[] = "brotli",
               kXpress[] = "xpress", kLznt1[] = "lznt1", kLzfse[] = "lzfse", kLzvn[] = "lzvn", kAdc[] = "adc";

/// Only the first bytes.
StreamPtr open_take(StreamPtr packed, const StepArguments& given, Size) {
  if (given[0].number < 0) throw Malformed(fmt::format("take: {} bytes are wanted", given[0].number));
  return make_first_bytes(std::move(packed), static_cast<std::uint64_t>(given[0].number));
}

/// The size a step was told, else the one that is expected of the whole chain.
Size size_of(const StepArgument& stated, Size expected) {
  return stated.given ? Size(static_cast<std::uint64_t>(stated.number)) : expected;
}

StreamPtr open_lzma_raw(StreamPtr packed, const StepArguments& given, Size size) {
  CodecOptions options;
  options.properties = given[0].bytes;
  options.unpacked_size = size_of(given[1], size);
  return open_decoder("lzma", std::move(packed), options);
}

StreamPtr open_lz4_raw(StreamPtr packed, const StepArguments& given, Size size) {
  return open_lz4_block(std::move(packed), size_of(given[0], size));
}
StreamPtr open_lzo_raw(StreamPtr packed, const StepArguments& given, Size size) {
  return open_lzo(std::move(packed), size_of(given[0], size));
}
StreamPtr open_lzh_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_lzh(std::move(packed), static_cast<unsigned>(std::clamp<std::int64_t>(given[0].number, 0, 99)),
                  size_of(given[1], size));
}

StreamPtr open_lzhuf_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_lzhuf(std::move(packed), size_of(given[0], size));
}
StreamPtr open_lzw_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_lzw(std::move(packed), lzw_dialect(given), size_of(given[6], size));
}
/// A block whose decoder fills all of the room or throws.
template <const char* Name, auto Decode>
StreamPtr open_filled(StreamPtr packed, const StepArguments& given, Size size) {
  return open_sized_block(std::move(packed), Name, size_of(given[0], size), [](ByteView in, ByteSpan out) {
    Decode(in, out);
    return out.size();
  });
}
/// One that tells how much came out.
template <const char* Name, std::size_t (*Decode)(ByteView, ByteSpan)>
StreamPtr open_counted(StreamPtr packed, const StepArguments& given, Size size) {
  return open_sized_block(std::move(packed), Name, size_of(given[0], size), Decode);
}
std::size_t decode_lzvn_alone(ByteView packed, ByteSpan out) {
  return decode_lzvn(packed, out);
}
StreamPtr open_lzx_step(StreamPtr packed, const StepArguments& given, Size size) {
  auto window = static_cast<unsigned>(std::clamp<std::int64_t>(given[0].number, 0, 99));
  return open_sized_block(std::move(packed), "lzx", size_of(given[1], size),
                          [window](ByteView in, ByteSpan out) {
                            decode_lzx_chunk(in, out, window);
                            return out.size();
                          });
}
StreamPtr open_quantum_step(StreamPtr packed, const StepArguments& given, Size size) {
  auto window = static_cast<unsigned>(std::clamp<std::int64_t>(given[0].number, 0, 99));
  Size expected = size_of(given[1], size);
  if (expected.value_or(0) > QuantumDecoder::kFrame)
    throw Unsupported(fmt::format("quantum data of {} bytes: a chunk that stands alone has at most {}",
                                  *expected, QuantumDecoder::kFrame));
  return open_sized_block(std::move(packed), "quantum", expected, [window](ByteView in, ByteSpan out) {
    QuantumDecoder decoder(window);
    ByteView made = decoder.decode_frame(in, out.size());
    std::copy(made.begin(), made.end(), out.begin());
    return made.size();
  });
}
StreamPtr open_shrink_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_decoder("shrink", std::move(packed), {.unpacked_size = size_of(given[0], size)});
}
StreamPtr open_reduce_step(StreamPtr packed, const StepArguments& given, Size size) {
  if (given[0].number < 1 || given[0].number > 4)
    throw Malformed(fmt::format("reduce: a factor of {}; 1 to 4 are known", given[0].number));
  return open_decoder(fmt::format("reduce-{}", given[0].number), std::move(packed),
                      {.unpacked_size = size_of(given[1], size)});
}
StreamPtr open_implode_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_decoder("implode", std::move(packed),
                      {.properties = {implode_flags(given)}, .unpacked_size = size_of(given[2], size)});
}
StreamPtr open_dcl_implode_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_decoder("dcl-implode", std::move(packed), {.unpacked_size = size_of(given[0], size)});
}
StreamPtr open_nrv_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_nrv(std::move(packed), nrv_dialect(given), size_of(given[2], size));
}
StreamPtr open_xts_step(StreamPtr stored, const StepArguments& given, Size) {
  return open_xts(std::move(stored), given[0].bytes, xts_units(given));
}
/// A codec that only has a name: what it packs can be listed and kept as it is.
StreamPtr open_missing(StreamPtr, const StepArguments& given, Size) {
  throw Unsupported(fmt::format("the codec {}", escape(given[0].text)));
}

StreamPtr open_lzss_step(StreamPtr packed, const StepArguments& given, Size size) {
  return open_lzss(std::move(packed), lzss_dialect(given), size_of(given[12], size));
}

StreamPtr open_run_length_step(StreamPtr packed, const StepArguments& given, Size) {
  if (auto rules = run_rules(given)) return open_run_ranges(std::move(packed), *rules);
  return open_run_length(std::move(packed), run_length_form(given), static_cast<Byte>(given[1].number));
}

template <Mix How>
StreamPtr open_key(StreamPtr stored, const StepArguments& given, Size) {
  return open_repeated_key(std::move(stored), How, given[0].bytes,
                           static_cast<std::uint64_t>(given[1].number));
}
StreamPtr open_rotate(StreamPtr stored, const StepArguments& given, Size) {
  return open_rotated(std::move(stored), static_cast<unsigned>(((given[0].number % 8) + 8) % 8));
}
StreamPtr open_lcg(StreamPtr stored, const StepArguments& given, Size) {
  return open_congruential(std::move(stored), congruential_mix(given), congruential_of(given));
}
StreamPtr open_rc4_step(StreamPtr stored, const StepArguments& given, Size) {
  return open_rc4(std::move(stored), given[0].bytes, static_cast<std::uint64_t>(given[1].number));
}

template <auto Make>
StreamPtr open_cipher(StreamPtr stored, const StepArguments& given, Size) {
  return open_block_cipher(std::move(stored), Make(given), block_mode(given[1]), given[2].bytes);
}

const StepParameter kSize{"size", Kind::number};
const std::vector<StepParameter> kKeyed = {{"key", Kind::bytes, true}, {"start", Kind::number}};
const std::vector<StepParameter> kBlockParameters = {
    {"key", Kind::secret, true}, {"mode", Kind::text, false, 0, "ecb"}, {"iv", Kind::bytes}};

std::vector<StepParameter> and_more(std::vector<StepParameter> first,
                                    std::initializer_list<StepParameter> more) {
  first.insert(first.end(), more);
  return first;
}

const std::vector<StepKind>& table() {
  static const std::vector<StepKind> kKinds = {
      {"stored", "nothing is done", {}, true, open_by_name<kStored>},
      {"take",
       "only the first size bytes, where a cipher filled the last block up",
       {{"size", Kind::number, true}},
       false,
       open_take},
      {"deflate", "RFC 1951, without a header", {}, false, open_by_name<kDeflate>},
      {"deflate64", "the larger deflate of ZIP method 9", {}, false, open_by_name<kDeflate64>},
      {"zlib", "RFC 1950: deflate with header and checksum", {}, false, open_by_name<kZlib>},
      {"gzip", "RFC 1952", {}, false, open_by_name<kGzip>},
      {"bzip2", "bzip2", {}, false, open_by_name<kBzip2>},
      {"xz", "the .xz format", {}, false, open_by_name<kXz>},
      {"lzma_alone", "LZMA with the 13-byte header", {}, false, open_by_name<kLzmaAlone>},
      {"lzma",
       "raw LZMA; its five property bytes are given",
       {{"properties", Kind::bytes, true}, kSize},
       false,
       open_lzma_raw},
      {"zstd", "RFC 8878", {}, false, open_by_name<kZstd>},
      {"lz4", "LZ4 frames", {}, false, open_by_name<kLz4>},
      {"lz4_block", "a single LZ4 block without a frame", {kSize}, false, open_lz4_raw},
      {"lzo", "LZO1X without a frame", {kSize}, false, open_lzo_raw},
      {"compress", "the .Z format: LZW with growing codes", {}, false, open_by_name<kCompress>},
      {"brotli", "RFC 7932", {}, false, open_by_name<kBrotli>},
      {"lzw",
       "LZW with codes of least to most bits; clear and end are codes, or -1; bits are low or high first; "
       "with "
       "early 1 codes grow one entry before they have to",
       {{"least", Kind::number, false, 9},
        {"most", Kind::number, false, 12},
        {"clear", Kind::number, false, 256},
        {"end", Kind::number, false, 257},
        {"bits", Kind::text, false, 0, "low"},
        {"early", Kind::number},
        kSize},
       false,
       open_lzw_step},
      {"lzhuf", "LZ77 with adaptive Huffman codes", {kSize}, false, open_lzhuf_step},
      {"shrink", "LZW that is partly cleared (ZIP method 1)", {kSize}, false, open_shrink_step},
      {"reduce",
       "followers of bytes and copies; factor is 1 to 4 (ZIP methods 2 to 5)",
       {{"factor", Kind::number, true}, kSize},
       false,
       open_reduce_step},
      {"implode",
       "LZ77 with two or three trees; window is 4096 or 8192 (ZIP method 6)",
       {{"window", Kind::number, false, 4096}, {"trees", Kind::number, false, 2}, kSize},
       false,
       open_implode_step},
      {"dcl_implode",
       "imploded data with a header and an end of its own",
       {kSize},
       false,
       open_dcl_implode_step},
      {"nrv",
       "LZ77 with gamma-coded lengths; form is b, d or e, word 8, 16 or 32 bits",
       {{"form", Kind::text, false, 0, "b"}, {"word", Kind::number, false, 8}, kSize},
       false,
       open_nrv_step},
      {"quantum",
       "a chunk of Quantum that stands alone; window is 10 to 21 bits",
       {{"window", Kind::number, false, 16}, kSize},
       false,
       open_quantum_step},
      {"lzx",
       "a chunk of LZX that stands alone; window is 15 to 21 bits",
       {{"window", Kind::number, false, 15}, kSize},
       false,
       open_lzx_step},
      {"xpress",
       "XPRESS with Huffman codes ([MS-XCA] 2.2)",
       {kSize},
       false,
       open_filled<kXpress, decode_xpress>},
      {"lznt1", "LZNT1 ([MS-XCA] 2.5)", {kSize}, false, open_filled<kLznt1, decode_lznt1>},
      {"lzfse", "LZFSE", {kSize}, false, open_counted<kLzfse, decode_lzfse>},
      {"lzvn", "LZVN without a frame", {kSize}, false, open_counted<kLzvn, decode_lzvn_alone>},
      {"adc", "Apple Data Compression", {kSize}, false, open_counted<kAdc, decode_adc>},
      {"missing", "a codec that is not here: its name", {{"name", Kind::text, true}}, false, open_missing},
      {"lzss",
       "the LZSS family, see below",
       {{"window", Kind::number, false, 4096},
        {"least", Kind::number, false, 3},
        {"token", Kind::text, false, 0, "pppppppp PPPPllll"},
        {"offsets", Kind::text, false, 0, "ring"},
        {"start", Kind::number},
        {"fill", Kind::number, false, 0x20},
        {"flags", Kind::text, false, 0, "low"},
        {"flag_bytes", Kind::number, false, 1},
        {"literal", Kind::number, false, 1},
        {"nearest", Kind::number, false, 1},
        {"longer", Kind::number},
        {"stops", Kind::number},
        kSize},
       false,
       open_lzss_step},
      {"lzh",
       "LZ77 with static Huffman codes a block; window is 8 to 16 bits",
       {{"window", Kind::number, false, 13}, kSize},
       false,
       open_lzh_step},
      {"rle",
       "run lengths; form is packbits, pairs, marked, high_bit, top_bits, or ranges",
       {{"form", Kind::text, true}, {"marker", Kind::number}, {"ranges", Kind::text}},
       false,
       open_run_length_step},
      {"xor", "exclusive or with a key that repeats; start is the place in the key that meets the first byte",
       kKeyed, true, open_key<Mix::exclusive_or>},
      {"add", "the key is added to get the plain bytes", kKeyed, true, open_key<Mix::add>},
      {"subtract", "the key is subtracted to get the plain bytes", kKeyed, true, open_key<Mix::subtract>},
      {"rotate",
       "each byte rotated to the left by so many bits",
       {{"bits", Kind::number, true}},
       true,
       open_rotate},
      {"lcg",
       "a linear congruential key stream modulo 2^32: state = state * factor + summand, then state >> shift; "
       "how is xor, add or subtract",
       {{"seed", Kind::number, true},
        {"factor", Kind::number, false, 1664525},
        {"summand", Kind::number, false, 1013904223},
        {"shift", Kind::number, false, 24},
        {"how", Kind::text, false, 0, "xor"}},
       true,
       open_lcg},
      {"rc4",
       "RC4; skip key bytes are passed over first",
       {{"key", Kind::secret, true}, {"skip", Kind::number}},
       true,
       open_rc4_step},
      {"tea", "TEA; order of its words is little or big",
       and_more(kBlockParameters,
                {{"order", Kind::text, false, 0, "big"}, {"rounds", Kind::number, false, 32}}),
       true, open_cipher<tea_of>},
      {"xtea", "XTEA, likewise",
       and_more(kBlockParameters,
                {{"order", Kind::text, false, 0, "big"}, {"rounds", Kind::number, false, 32}}),
       true, open_cipher<xtea_of>},
      {"blowfish", "Blowfish, likewise", and_more(kBlockParameters, {{"order", Kind::text, false, 0, "big"}}),
       true, open_cipher<blowfish_of>},
      {"des", "DES; a key of 16 or 24 bytes makes it triple DES", kBlockParameters, true,
       open_cipher<des_of>},
      {"aes", "AES with a key of 16, 24 or 32 bytes; mode is ecb, cbc or ctr", kBlockParameters, true,
       open_cipher<aes_of>},
      {"aes_xts",
       "XTS with two AES keys of 16 or 32 bytes, one behind the other; tweak is the number of the first "
       "unit, its lowest "
       "byte first, and counts up with each unit",
       {{"key", Kind::secret, true}, {"tweak", Kind::bytes}, {"unit", Kind::number, false, 512}},
       true,
       open_xts_step},
  };
  return kKinds;
}

}  // namespace

std::span<const StepKind> step_kinds() {
  return table();
}

const StepKind* find_step(std::string_view name) {
  auto kinds = step_kinds();
  auto found =
      std::find_if(kinds.begin(), kinds.end(), [&](const StepKind& one) { return one.name == name; });
  return found == kinds.end() ? nullptr : &*found;
}

}  // namespace operculum::layout
