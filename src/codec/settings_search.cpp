#include "codec/settings_search.h"

#include <fmt/format.h>
#include <lzma.h>

#include <algorithm>
#include <array>

#include "base/cursor.h"
#include "base/error.h"

namespace operculum {
namespace {

using Candidates = std::vector<PackSettings>;

constexpr std::uint64_t kMostWhole = 16 << 20;     // bytes that libdeflate's usual levels are tried on
constexpr std::uint64_t kMostWholeSlow = 1 << 20;  // bytes that its slowest levels are tried on
constexpr std::uint64_t kCertain = 1 << 20;        // packed bytes that are equal only with the same settings
constexpr std::size_t kHeadSize = 4096;            // bytes of packed data that are looked at

/// Fields of a zstd frame's head (RFC 8878, 3.1.1.1).
Candidates zstd_candidates(ByteView head, PackSettings shown) {
  constexpr std::size_t kDescriptorAt = 4;
  if (head.size() <= kDescriptorAt + 1) return {};
  Byte descriptor = head[kDescriptorAt];
  bool single_segment = (descriptor & 0x20) != 0;
  shown.checksum = (descriptor & 0x04) != 0;
  shown.states_size = (descriptor >> 6) != 0 || single_segment;
  std::optional<int> window;
  if (!single_segment) window = 10 + (head[kDescriptorAt + 1] >> 3);  // exponent over 1 KiB
  Candidates all;
  constexpr int kLevels = 22;
  for (unsigned threads : {0u, 1u}) {
    for (int level = 1; level <= kLevels; ++level) {
      PackSettings one = shown;
      one.threads = threads;
      one.level = level;
      all.push_back(one);
    }
  }
  if (window) {  // a window that was asked for
    for (int level = 1; level <= kLevels; ++level) {
      PackSettings one = shown;
      one.level = level;
      one.window_log = window;
      all.push_back(one);
    }
  }
  std::stable_partition(all.begin(), all.end(), [](const PackSettings& s) { return s.level == 3; });
  return all;
}

/// Presets whose dictionary is that of the data; all of them with that dictionary when none has it.
Candidates lzma_presets(const PackSettings& shown, std::uint32_t dictionary_size) {
  Candidates fitting, others;
  for (bool extreme : {false, true}) {
    for (int level : {6, 0, 1, 2, 3, 4, 5, 7, 8, 9}) {  // the usual one first: a trial may take a whole block
      lzma_options_lzma options;
      auto preset = static_cast<std::uint32_t>(level) | (extreme ? LZMA_PRESET_EXTREME : 0);
      if (lzma_lzma_preset(&options, preset)) continue;
      PackSettings one = shown;
      one.level = level;
      one.extreme = extreme;
      one.dictionary_size = dictionary_size;
      (options.dict_size == dictionary_size ? fitting : others).push_back(one);
    }
  }
  fitting.insert(fitting.end(), others.begin(), others.end());
  return fitting;
}

Candidates lzma_candidates(ByteView head, PackSettings shown) {
  constexpr std::size_t kProperties = 5;
  if (head.size() < kProperties) return {};
  shown.properties.assign(head.begin(), head.begin() + kProperties);
  return lzma_presets(shown, load_little<std::uint32_t>(head.data() + 1));
}

Candidates lzma_alone_candidates(ByteView head, PackSettings shown) {
  constexpr std::size_t kHeader = 13, kSizeAt = 5;
  if (head.size() < kHeader) return {};
  shown.states_size = load_little<std::uint64_t>(head.data() + kSizeAt) != UINT64_MAX;
  shown.end_mark = !shown.states_size;
  Candidates all = lzma_candidates(head, shown);
  if (!shown.states_size) return all;
  shown.end_mark = true;  // some writers state the size and mark the end, too
  for (PackSettings& one : lzma_candidates(head, shown)) all.push_back(std::move(one));
  return all;
}

/// The head of the first block (.xz format 1.1.0, 3.1).
struct XzBlockHead {
  std::vector<std::uint64_t> filters;  // in front of LZMA2
  std::uint32_t dictionary_size = 0;
  bool states_sizes = false;  // as the encoder that works in blocks does
  std::uint64_t plain_size = 0;
};
std::optional<XzBlockHead> read_xz_block(ByteView head, lzma_check check) {
  constexpr std::size_t kStreamHeader = 12;
  if (head.size() <= kStreamHeader || head[kStreamHeader] == 0) return std::nullopt;
  std::array<lzma_filter, LZMA_FILTERS_MAX + 1> filters{};
  lzma_block block{};
  block.version = 0;
  block.check = check;
  block.filters = filters.data();
  block.header_size = lzma_block_header_size_decode(head[kStreamHeader]);
  if (head.size() < kStreamHeader + block.header_size ||
      lzma_block_header_decode(&block, nullptr, head.data() + kStreamHeader) != LZMA_OK)
    return std::nullopt;
  XzBlockHead out;
  for (std::size_t i = 0; filters[i].id != LZMA_VLI_UNKNOWN; ++i) {
    if (filters[i].id == LZMA_FILTER_LZMA2) {
      out.dictionary_size = static_cast<const lzma_options_lzma*>(filters[i].options)->dict_size;
    } else {
      out.filters.push_back(filters[i].id);
    }
  }
  out.states_sizes = block.compressed_size != LZMA_VLI_UNKNOWN;
  if (out.states_sizes) out.plain_size = block.uncompressed_size;
  lzma_filters_free(filters.data(), nullptr);
  return out;
}

Candidates xz_candidates(ByteView head, PackSettings shown) {
  lzma_stream_flags flags{};
  if (head.size() < LZMA_STREAM_HEADER_SIZE || lzma_stream_header_decode(&flags, head.data()) != LZMA_OK)
    return {};
  shown.check = flags.check;
  auto block = read_xz_block(head, flags.check);
  if (!block) return {shown};
  shown.filters = block->filters;
  if (block->states_sizes) {
    shown.threads = 1;
    if (block->plain_size < shown.plain_size.value_or(0)) shown.block_size = block->plain_size;
  }
  return lzma_presets(shown, block->dictionary_size);
}

Candidates bzip2_candidates(ByteView head, PackSettings shown) {
  constexpr std::size_t kLevelAt = 3;
  if (head.size() > kLevelAt) shown.level = head[kLevelAt] - '0';
  return {shown};
}

/// The descriptor of a frame (LZ4 frame format 1.6.2, "Frame Descriptor").
Candidates lz4_candidates(ByteView head, PackSettings shown) {
  constexpr std::size_t kFlagsAt = 4, kBlockAt = 5;
  if (head.size() <= kBlockAt) return {};
  Byte flags = head[kFlagsAt];
  shown.linked_blocks = (flags & 0x20) == 0;
  shown.block_checksum = (flags & 0x10) != 0;
  shown.states_size = (flags & 0x08) != 0;
  shown.checksum = (flags & 0x04) != 0;
  shown.block_size = std::uint64_t{1} << (8 + 2 * (head[kBlockAt] >> 4 & 7));
  Candidates all;
  for (int level : {1, 9, 3, 4, 5, 6, 7, 8, 10, 11, 12}) {
    all.push_back(shown);
    all.back().level = level;
  }
  return all;
}

Candidates deflate_candidates(ByteView, PackSettings shown) {
  Candidates all;
  auto add = [&](int level, int memory, int strategy) {
    all.push_back(shown);
    all.back().level = level;
    all.back().memory_level = memory;
    all.back().strategy = strategy;
  };
  constexpr int kUsual = 8, kMost = 9;  // of memLevel
  for (int level : {6, 1, 2, 3, 4, 5, 7, 8, 9}) add(level, kUsual, 0);
  for (int level : {9, 6, 1, 2, 3, 4, 5, 7, 8}) add(level, kMost, 0);
  for (int strategy : {1, 2, 3, 4}) {  // filtered, Huffman alone, run lengths, fixed codes
    for (int level : {6, 9, 1}) add(level, kUsual, strategy);
  }
  std::uint64_t size = shown.plain_size.value_or(UINT64_MAX);
  for (int level : {6, 1, 2, 3, 4, 5, 7, 8, 9, 10, 11, 12}) {
    if (size > (level > 9 ? kMostWholeSlow : kMostWhole)) continue;
    all.push_back(shown);
    all.back().level = level;
    all.back().whole_buffer = true;
  }
  return all;
}

Candidates zlib_candidates(ByteView head, PackSettings shown) {
  constexpr std::size_t kFlgAt = 1;
  if (head.size() > kFlgAt) shown.zlib_flg = head[kFlgAt];
  return deflate_candidates(head, std::move(shown));
}

/// There is one way alone.
Candidates as_shown(ByteView, PackSettings shown) {
  Candidates all;
  all.push_back(std::move(shown));
  return all;
}

struct Search {
  std::string_view codec;
  Candidates (*candidates)(ByteView head, PackSettings shown);
};
constexpr Search kSearches[] = {
    {"compress", as_shown},    {"deflate64", as_shown},
    {"stored", as_shown},      {"deflate", deflate_candidates},
    {"zlib", zlib_candidates}, {"bzip2", bzip2_candidates},
    {"lzma", lzma_candidates}, {"lzma-alone", lzma_alone_candidates},
    {"xz", xz_candidates},     {"zstd", zstd_candidates},
    {"lz4", lz4_candidates},
};

Candidates candidates_for(std::string_view codec, const Source& packed, std::uint64_t plain_size) {
  PackSettings shown;
  shown.plain_size = plain_size;
  for (const Search& search : kSearches) {
    if (search.codec == codec) return search.candidates(read_up_to(packed, 0, kHeadSize), shown);
  }
  return {};
}

/// Whether packing gives exactly these bytes; read up to the first that differs, or until that is certain.
bool gives(std::string_view codec, const PackSettings& settings, const Source& packed, const Content& plain) {
  StreamPtr made;
  try {
    made = open_encoder(codec, plain.stream(), settings);
  } catch (const Unsupported&) {
    return false;  // settings that this build of a library does not know
  }
  Bytes ours(16 * 1024), theirs(ours.size());
  for (std::uint64_t at = 0;;) {
    std::size_t count = read_fully(*made, ours);
    if (count == 0) return at == packed.size();
    if (at >= kCertain) return true;
    std::size_t there = packed.read_at(at, ByteSpan(theirs).first(count));
    if (there < count ||
        !std::equal(ours.begin(), ours.begin() + static_cast<std::ptrdiff_t>(count), theirs.begin()))
      return false;
    at += count;
  }
}

}  // namespace

std::string text_of(const PackSettings& settings) {
  std::string text = settings.level ? fmt::format("level {}", *settings.level) : "the usual level";
  if (settings.extreme) text += ", extreme";
  if (settings.whole_buffer) text += ", by libdeflate";
  if (settings.memory_level != 8) text += fmt::format(", memory {}", settings.memory_level);
  if (settings.strategy != 0) text += fmt::format(", strategy {}", settings.strategy);
  if (settings.window_log) text += fmt::format(", window of 2^{} bytes", *settings.window_log);
  return text;
}

PackSettings shown_settings(std::string_view codec, const Source& packed, std::uint64_t plain_size) {
  Candidates all = candidates_for(codec, packed, plain_size);
  PackSettings best = all.empty() ? PackSettings{} : all.front();
  best.plain_size = plain_size;
  bool deflated = codec == "deflate" || codec == "zlib";
  if (deflated) best.level = 9;  // nothing in the data tells; encoders of their own mostly pack well
  return best;
}

std::optional<PackSettings> find_settings(std::string_view codec, const SourcePtr& packed,
                                          const Content& plain, std::uint64_t plain_size) {
  for (const PackSettings& settings : candidates_for(codec, *packed, plain_size)) {
    if (gives(codec, settings, *packed, plain)) return settings;
  }
  return std::nullopt;
}

}  // namespace operculum
