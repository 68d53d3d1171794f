#include "layout/rewrite/entry_packer.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "layout/run/step_packers.h"

namespace operculum::layout {
namespace {

/// Bytes of a block of a cipher that works on whole blocks alone; 1 of all other steps.
std::uint64_t block_of(const Step& step) {
  struct Block {
    std::string_view name;
    std::uint64_t size;
  };
  static constexpr Block kBlocks[] = {{"aes", 16}, {"des", 8}, {"blowfish", 8}, {"tea", 8}, {"xtea", 8}};
  for (const Block& block : kBlocks) {
    if (block.name == step.kind->name && step.arguments[1].text != "ctr") return block.size;
  }
  return 1;
}

/// Zeros behind a content, up to whole blocks.
StreamPtr filled_up(StreamPtr plain, std::uint64_t size, std::uint64_t block) {
  std::uint64_t missing = (block - size % block) % block;
  if (missing == 0) return plain;
  struct Filled final : Stream {
    Filled(StreamPtr of, std::uint64_t zeros) : inner(std::move(of)), left(zeros) {}
    std::size_t read(ByteSpan out) override {
      if (std::size_t count = inner->read(out)) return count;
      auto count = static_cast<std::size_t>(std::min<std::uint64_t>(left, out.size()));
      std::fill_n(out.begin(), count, Byte{0});
      left -= count;
      return count;
    }
    StreamPtr inner;
    std::uint64_t left;
  };
  return std::make_unique<Filled>(std::move(plain), missing);
}

/// The settings of the one codec among the steps, found out from what it made before.
PackSettings settings_of(const EntryLook& look, Container& before, std::size_t index,
                         const Writing& writing) {
  PackSettings settings;
  settings.level = writing.choice.level;
  const std::vector<Step>& steps = look.recipe->steps;
  if (steps.empty() || codec_of(*steps.back().kind).empty()) return settings;
  Recipe packed = *look.recipe;
  packed.steps.pop_back();
  const Entry& entry = before.entries()[index];
  try {
    StreamPtr stream = open_recipe(std::make_shared<Recipe>(packed), std::nullopt);
    SourcePtr bytes = packed.steps.empty() && packed.source ? packed.source : spool(*stream, writing.spool);
    ContentPtr plain = before.content(index);
    std::uint64_t size = look.size ? *look.size : plain->stream()->skip(UINT64_MAX);
    return settings_like(codec_of(*steps.back().kind), bytes, *plain, size, entry.path, writing);
  } catch (const Malformed&) {
    return settings;  // what was there is damaged: that is why it is replaced
  }
}

/// Without its packed bytes.
PackedEntry measured(const NewEntry& changed) {
  PackedEntry out;
  out.plain = changed.content;
  out.plain_size = changed.size;
  StreamPtr measure = changed.content->stream();
  Bytes buffer(256 * 1024);
  while (std::size_t count = measure->read(buffer))
    out.crc32 = crc32(out.crc32, ByteView(buffer).first(count));
  return out;
}

Bytes plain_of(const RecipePtr& block) {
  constexpr std::uint64_t kMostBlock = 64 << 20;
  return read_all(*open_recipe(block, std::nullopt), kMostBlock);
}

/// Plain bytes of a block but for the last: as those of the entry have, or of another one; else what a number
/// says that has room for all that there is.
std::uint64_t block_size_of(const Survey& survey, std::size_t index, const Blocks& blocks,
                            std::uint64_t wanted) {
  auto first_of = [](const EntryLook& look) { return plain_of(look.recipe->parts.front()).size(); };
  if (blocks.lengths.size() > 1) return first_of(survey.looks[index]);
  for (const EntryLook& look : survey.looks) {
    auto other = blocks_of(look, *survey.file.source);
    if (other && other->lengths.size() > 1) return first_of(look);
  }
  constexpr std::int64_t kMost = 16 << 20;
  std::uint64_t least = survey.looks[index].size.value_or(first_of(survey.looks[index])), best = 0;
  for (const NumberRead& read : survey.head.numbers) {
    auto value = static_cast<std::uint64_t>(read.value);
    bool fits = read.value <= kMost && read.value > 1 && (value & (value - 1)) == 0 && value >= least;
    if (fits && (best == 0 || value < best)) best = value;
  }
  if (best == 0 && wanted <= least) best = least;
  if (best == 0)
    throw Unsupported("a longer content in blocks, of which there is only one: their size is not told");
  return best;
}

/// As those of the first block that is packed.
PackSettings settings_of_blocks(const EntryLook& look, const Blocks& blocks, const std::string& path,
                                const Writing& writing) {
  PackSettings settings;
  settings.level = writing.choice.level;
  std::string_view codec = blocks.steps.empty() ? "" : codec_of(*blocks.steps.back().kind);
  if (codec.empty()) return settings;
  for (const RecipePtr& block : look.recipe->parts) {
    if (block->steps.empty()) continue;
    Recipe packed = *block;
    packed.steps.pop_back();
    SourcePtr bytes = make_memory_source(plain_of(std::make_shared<Recipe>(packed)));
    SourcePtr plain = make_memory_source(plain_of(block));
    return settings_like(codec, bytes, *make_content(plain), plain->size(), path, writing);
  }
  return settings;
}

PackedEntry pack_in_blocks(const Survey& survey, std::size_t index, const Blocks& blocks,
                           const NewEntry& changed, const Writing& writing) {
  const std::string& path = survey.container->entries()[index].path;
  PackedEntry out = measured(changed);
  PackSettings settings = settings_of_blocks(survey.looks[index], blocks, path, writing);
  std::uint64_t size = block_size_of(survey, index, blocks, changed.size);
  out.stored = in_blocks(blocks, *changed.content, size, settings, *survey.file.source).source();
  return out;
}

PackedEntry pack_one(const EntryLook& look, const NewEntry& changed, PackSettings settings,
                     const Writing& writing) {
  PackedEntry out = measured(changed);
  settings.plain_size = changed.size;
  const std::vector<Step>& steps = look.recipe->steps;
  SourcePtr plain = changed.content->source();
  if (steps.empty() && plain) {
    out.stored = plain;
    return out;
  }
  StreamPtr stream = changed.content->stream();
  std::uint64_t block = 1;
  for (const Step& step : steps) block = std::max(block, block_of(step));
  bool cut = !steps.empty() && steps.back().kind->name == "take";
  if (cut) stream = filled_up(std::move(stream), changed.size, block);
  out.stored = spool(*pack_steps(steps, std::move(stream), settings), writing.spool);
  return out;
}

}  // namespace

std::map<std::size_t, PackedEntry> pack_entries(const Survey& survey, const Changes& changes,
                                                const Writing& writing) {
  std::map<std::size_t, PackedEntry> out;
  for (const auto& [index, changed] : changes.replaced) {
    const std::string& path = survey.container->entries()[index].path;
    if (changed.kind != EntryKind::file) throw Unsupported("setting what is no file in a described format");
    if (!writing.choice.method.empty())
      throw Unsupported("--method in a described format, which says itself how it packs");
    const EntryLook& look = survey.looks[index];
    if (!look.recipe) survey.container->look(index);  // which says why it cannot be had
    if (auto blocks = blocks_of(look, *survey.file.source)) {
      out.emplace(index, pack_in_blocks(survey, index, *blocks, changed, writing));
      continue;
    }
    if (!stored_bytes(look.recipe))
      throw Unsupported(
          fmt::format("setting \"{}\", whose bytes are joined from several places", escape(path)));
    PackSettings settings = settings_of(look, *survey.container, index, writing);
    out.emplace(index, pack_one(look, changed, settings, writing));
  }
  return out;
}

bool store_what_grew(std::map<std::size_t, PackedEntry>& packed) {
  bool any = false;
  for (auto& [index, entry] : packed) {
    SourcePtr plain = entry.plain->source();
    if (!plain || entry.stored->size() < entry.plain_size) continue;
    entry.stored = plain;
    any = true;
  }
  return any;
}

}  // namespace operculum::layout
