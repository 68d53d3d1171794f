#include "layout/run/step_packers.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "cipher/block_ciphers.h"
#include "cipher/byte_ciphers.h"
#include "codec/codec.h"
#include "codec/lzh.h"
#include "codec/lzss.h"
#include "codec/raw_blocks.h"
#include "codec/run_length.h"
#include "codec/run_ranges.h"
#include "layout/run/step_arguments.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kMostWhole = 256 << 20;  // bytes that are packed in memory

StreamPtr stream_of(Bytes bytes) {
  return make_source_stream(make_memory_source(std::move(bytes)));
}

template <const char* Name>
StreamPtr pack_by_name(StreamPtr plain, const StepArguments&, const PackSettings& settings) {
  return open_encoder(Name, std::move(plain), settings);
}
constexpr char kDeflate[] = "deflate", kDeflate64[] = "deflate64", kCompress[] = "compress", kZlib[] = "zlib",
               kGzip[] = "gzip", kBzip2[] = "bzip2", kXz[] = "xz", kLzmaAlone[] = "lzma-alone",
               kZstd[] = "zstd", kLz4[] = "lz4";

StreamPtr pass_on(StreamPtr plain, const StepArguments&, const PackSettings&) {
  return plain;
}

/// The properties stand elsewhere and stay: what the encoder puts in front of its data is left out.
StreamPtr pack_lzma_raw(StreamPtr plain, const StepArguments& given, const PackSettings& settings) {
  PackSettings own = settings;
  own.properties = given[0].bytes;
  own.end_mark = false;
  StreamPtr packed = open_encoder("lzma", std::move(plain), own);
  packed->skip(given[0].bytes.size());
  return packed;
}

StreamPtr pack_lz4_raw(StreamPtr plain, const StepArguments&, const PackSettings& settings) {
  return stream_of(pack_lz4_block(read_all(*plain, kMostWhole), settings.level));
}
StreamPtr pack_lzo_raw(StreamPtr plain, const StepArguments&, const PackSettings&) {
  return stream_of(pack_lzo(read_all(*plain, kMostWhole)));
}
StreamPtr pack_lzss_step(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return stream_of(pack_lzss(read_all(*plain, kMostWhole), lzss_dialect(given)));
}
StreamPtr pack_lzh_step(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return pack_lzh(std::move(plain), static_cast<unsigned>(std::clamp<std::int64_t>(given[0].number, 0, 99)));
}
StreamPtr pack_run_length_step(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  if (auto rules = run_rules(given)) return stream_of(pack_run_ranges(read_all(*plain, kMostWhole), *rules));
  return stream_of(pack_run_length(read_all(*plain, kMostWhole), run_length_form(given),
                                   static_cast<Byte>(given[1].number)));
}

/// What adding undoes is subtracting, and the other way round.
constexpr Mix opposite(Mix mix) {
  return mix == Mix::add ? Mix::subtract : mix == Mix::subtract ? Mix::add : mix;
}
template <Mix How>
StreamPtr mix_back(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return open_repeated_key(std::move(plain), opposite(How), given[0].bytes,
                           static_cast<std::uint64_t>(given[1].number));
}
StreamPtr rotate_back(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return open_rotated(std::move(plain), static_cast<unsigned>((8 - (given[0].number % 8 + 8) % 8) % 8));
}
StreamPtr congruential_back(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return open_congruential(std::move(plain), opposite(congruential_mix(given)), congruential_of(given));
}
StreamPtr seal_rc4(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return open_rc4(std::move(plain), given[0].bytes, static_cast<std::uint64_t>(given[1].number));
}

template <auto Make>
StreamPtr seal(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return seal_block_cipher(std::move(plain), Make(given), block_mode(given[1]), given[2].bytes);
}

StreamPtr seal_xts_step(StreamPtr plain, const StepArguments& given, const PackSettings&) {
  return seal_xts(std::move(plain), given[0].bytes, xts_units(given));
}

struct Packer {
  std::string_view step;
  StreamPtr (*pack)(StreamPtr plain, const StepArguments& arguments, const PackSettings& settings);
  std::string_view codec = {};  // of the codec table
};

constexpr Packer kPackers[] = {
    {"stored", pass_on},
    {"take", pass_on},
    {"deflate", pack_by_name<kDeflate>, kDeflate},
    {"deflate64", pack_by_name<kDeflate64>},
    {"compress", pack_by_name<kCompress>},
    {"zlib", pack_by_name<kZlib>, kZlib},
    {"gzip", pack_by_name<kGzip>},
    {"bzip2", pack_by_name<kBzip2>, kBzip2},
    {"xz", pack_by_name<kXz>, kXz},
    {"lzma_alone", pack_by_name<kLzmaAlone>, kLzmaAlone},
    {"lzma", pack_lzma_raw},
    {"zstd", pack_by_name<kZstd>, kZstd},
    {"lz4", pack_by_name<kLz4>, kLz4},
    {"lz4_block", pack_lz4_raw},
    {"lzo", pack_lzo_raw},
    {"lzss", pack_lzss_step},
    {"lzh", pack_lzh_step},
    {"rle", pack_run_length_step},
    {"xor", mix_back<Mix::exclusive_or>},
    {"add", mix_back<Mix::add>},
    {"subtract", mix_back<Mix::subtract>},
    {"rotate", rotate_back},
    {"lcg", congruential_back},
    {"rc4", seal_rc4},
    {"tea", seal<tea_of>},
    {"xtea", seal<xtea_of>},
    {"blowfish", seal<blowfish_of>},
    {"des", seal<des_of>},
    {"aes", seal<aes_of>},
    {"aes_xts", seal_xts_step},
};

const Packer* packer_of(const StepKind& kind) {
  auto found = std::find_if(std::begin(kPackers), std::end(kPackers),
                            [&](const Packer& one) { return one.step == kind.name; });
  return found == std::end(kPackers) ? nullptr : found;
}

}  // namespace

StreamPtr pack_step(const Step& step, StreamPtr plain, const PackSettings& settings) {
  const Packer* packer = packer_of(*step.kind);
  if (packer == nullptr) throw Unsupported(fmt::format("packing with \"{}\"", step.kind->name));
  return packer->pack(std::move(plain), step.arguments, settings);
}

StreamPtr pack_steps(const std::vector<Step>& steps, StreamPtr plain, const PackSettings& settings) {
  for (auto step = steps.rbegin(); step != steps.rend(); ++step)
    plain = pack_step(*step, std::move(plain), settings);
  return plain;
}

std::string_view codec_of(const StepKind& kind) {
  const Packer* packer = packer_of(kind);
  return packer == nullptr ? std::string_view() : packer->codec;
}

std::vector<std::string_view> packable_steps() {
  std::vector<std::string_view> names;
  for (const Packer& packer : kPackers) names.push_back(packer.step);
  return names;
}

}  // namespace operculum::layout
