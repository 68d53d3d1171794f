#include "format/filesystem/squashfs_form.h"

#include <fmt/format.h>
#include <lzma.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace operculum::squash {
namespace {

struct Method {
  std::uint16_t number;
  BlockCodec codec;
  std::string_view name;  // as a person says it
};
constexpr Method kMethods[] = {{1, BlockCodec::zlib, "gzip"}, {2, BlockCodec::lzma_alone, "lzma"},
                               {3, BlockCodec::lzo, "lzo"},   {4, BlockCodec::xz, "xz"},
                               {5, BlockCodec::lz4, "lz4"},   {6, BlockCodec::zstd, "zstd"}};

constexpr std::string_view kUsualCodec = "xz";
constexpr std::uint16_t kUsualBlockLog = 17;
constexpr int kLz4DenseLevel = 12;

// The codecs' options, each behind the superblock as a metadata block that is not packed.

struct GzipOptions {
  std::uint32_t level = 9;
  std::uint16_t window = 15, strategies = 0;
  static constexpr auto layout = little_endian(field("compression_level", &GzipOptions::level),
                                               field("window_size", &GzipOptions::window),
                                               field("strategies", &GzipOptions::strategies));
};
struct XzOptions {
  std::uint32_t dictionary_size = 0, filters = 0;
  static constexpr auto layout = little_endian(field("dictionary_size", &XzOptions::dictionary_size),
                                               field("executable_filters", &XzOptions::filters));
};
struct Lz4Options {
  std::uint32_t version = 1, flags = 0;
  static constexpr auto layout =
      little_endian(field("version", &Lz4Options::version), field("flags", &Lz4Options::flags));
};
struct ZstdOptions {
  std::uint32_t level = 15;
  static constexpr auto layout = little_endian(field("compression_level", &ZstdOptions::level));
};
struct LzoOptions {
  std::uint32_t algorithm = 4, level = 8;
  static constexpr auto layout = little_endian(field("algorithm", &LzoOptions::algorithm),
                                               field("compression_level", &LzoOptions::level));
};

/// The choices whose bits are set in a mask, lowest first.
template <typename Choice, std::size_t Count>
std::vector<Choice> chosen(const Choice (&choices)[Count], std::uint32_t mask) {
  std::vector<Choice> out;
  for (std::size_t i = 0; i < Count; ++i) {
    if ((mask >> i & 1) != 0) out.push_back(choices[i]);
  }
  return out;
}

void take(BlockPacking& packing, const GzipOptions& options) {
  static constexpr int kStrategies[] = {0, 1, 2, 3, 4};  // as zlib numbers them
  packing.level = static_cast<int>(options.level);
  packing.window_bits = options.window;
  packing.strategies = chosen(kStrategies, options.strategies);
  if (packing.strategies.empty()) packing.strategies = {0};
}
void take(BlockPacking& packing, const XzOptions& options) {
  static constexpr std::uint64_t kFilters[] = {LZMA_FILTER_X86, LZMA_FILTER_POWERPC,  LZMA_FILTER_IA64,
                                               LZMA_FILTER_ARM, LZMA_FILTER_ARMTHUMB, LZMA_FILTER_SPARC};
  packing.dictionary_size = options.dictionary_size;
  packing.filters = chosen(kFilters, options.filters);
}
void take(BlockPacking& packing, const Lz4Options& options) {
  if ((options.flags & 1) != 0) packing.level = kLz4DenseLevel;
}
void take(BlockPacking& packing, const ZstdOptions& options) {
  packing.level = static_cast<int>(options.level);
}
void take(BlockPacking& packing, const LzoOptions& options) {
  packing.variant = options.algorithm;
  packing.level = static_cast<int>(options.level);
}

template <typename Options>
void take_from(BlockPacking& packing, ByteView raw) {
  if (raw.size() >= size_on_disk<Options>) take(packing, read_structure<Options>(raw.data()));
}

template <typename Options>
Bytes bytes_of(const Options& options) {
  Bytes out;
  append_structure(out, options);
  return out;
}

}  // namespace

BlockCodec codec_of(const Super& super) {
  auto method = std::find_if(std::begin(kMethods), std::end(kMethods),
                             [&](const Method& one) { return one.number == super.method; });
  if (method == std::end(kMethods))
    throw Unsupported(fmt::format("SquashFS compression number {}", super.method));
  return method->codec;
}

Form form_of(const Super& super, Bytes options) {
  Form form;
  form.super = super;
  form.codec = codec_of(super);
  form.options = std::move(options);
  form.packing.dictionary_size = super.block_size;
  static constexpr struct {
    BlockCodec codec;
    void (*take)(BlockPacking& packing, ByteView raw);
  } kOptions[] = {{BlockCodec::zlib, take_from<GzipOptions>},
                  {BlockCodec::xz, take_from<XzOptions>},
                  {BlockCodec::lz4, take_from<Lz4Options>},
                  {BlockCodec::zstd, take_from<ZstdOptions>},
                  {BlockCodec::lzo, take_from<LzoOptions>}};
  for (const auto& one : kOptions) {
    if (one.codec == form.codec) one.take(form.packing, form.options);
  }
  form.meta_packing = form.packing;  // the usual variant alone is tried for it
  form.meta_packing.dictionary_size = kMetaBlock;
  form.meta_packing.filters.clear();
  form.meta_packing.strategies = {0};
  return form;
}

Form usual_form(std::string_view codec, std::optional<int> level) {
  std::string_view name = codec.empty() ? kUsualCodec : codec;
  auto method = std::find_if(std::begin(kMethods), std::end(kMethods), [&](const Method& one) {
    return one.name == name || name_of(one.codec) == name;
  });
  if (method == std::end(kMethods))
    throw Unsupported(fmt::format("the method \"{}\" in a SquashFS image", escape(codec)));
  Super super;
  super.method = method->number;
  super.block_log = kUsualBlockLog;
  super.block_size = 1u << kUsualBlockLog;
  super.flags = duplicates_once | exportable;
  Bytes options;
  if (method->codec == BlockCodec::lz4) options = bytes_of(Lz4Options{});  // always there
  if (level && *level >= 0) {
    auto wanted = static_cast<std::uint32_t>(*level);
    if (method->codec == BlockCodec::zlib) options = bytes_of(GzipOptions{.level = wanted});
    if (method->codec == BlockCodec::zstd) options = bytes_of(ZstdOptions{wanted});
    if (method->codec == BlockCodec::lzo) options = bytes_of(LzoOptions{.level = wanted});
  }
  if (!options.empty()) super.flags |= has_codec_options;
  return form_of(super, std::move(options));
}

}  // namespace operculum::squash
