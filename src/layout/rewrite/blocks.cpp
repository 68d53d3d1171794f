#include "layout/rewrite/blocks.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "io/assembly.h"
#include "layout/rewrite/number_writer.h"
#include "layout/run/step_packers.h"

namespace operculum::layout {
namespace {

bool same_kinds(const std::vector<Step>& a, const std::vector<Step>& b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(),
                    [](const Step& one, const Step& other) { return one.kind == other.kind; });
}

/// The blocks' lengths and steps, where they lie one behind the other from `begin` on.
std::optional<Blocks> lying_together(const Recipe& recipe, const Source& base, std::uint64_t& begin) {
  Blocks out;
  for (const RecipePtr& part : recipe.parts) {
    if (!part->source || !part->missing.empty()) return std::nullopt;
    Extent extent = extent_of(*part->source, base);
    bool follows = extent.there && (out.lengths.empty() || extent.at == out.end);
    if (!follows) return std::nullopt;
    if (out.lengths.empty()) begin = extent.at;
    out.lengths.push_back(extent.length);
    out.end = extent.at + extent.length;
    if (part->steps.empty()) continue;
    if (!out.steps.empty() && !same_kinds(out.steps, part->steps)) return std::nullopt;
    out.steps = part->steps;
  }
  return out.lengths.empty() ? std::nullopt : std::optional(std::move(out));
}

/// Whether numbers that were read are the blocks' lengths, in order, right in front of the first.
bool find_table(const EntryLook& look, std::uint64_t begin, Blocks& out) {
  for (const NumberRead& read : look.reads.numbers) {
    bool fits = read.width > 0 && read.at + out.lengths.size() * read.width == begin &&
                read.value == static_cast<std::int64_t>(out.lengths.front());
    if (!fits) continue;
    out.first = read;
    std::vector<bool> seen(out.lengths.size());
    for (const NumberRead& one : look.reads.numbers) {
      if (one.at < read.at || one.at >= begin || (one.at - read.at) % read.width != 0) continue;
      auto number = static_cast<std::size_t>((one.at - read.at) / read.width);
      seen[number] = seen[number] || one.value == static_cast<std::int64_t>(out.lengths[number]);
    }
    if (std::find(seen.begin(), seen.end(), false) == seen.end()) return true;
  }
  return false;
}

Bytes packed_by(const std::vector<Step>& steps, ByteView plain, PackSettings settings) {
  settings.plain_size = plain.size();
  SourcePtr bytes = make_memory_source(Bytes(plain.begin(), plain.end()));
  return read_all(*pack_steps(steps, make_source_stream(bytes), settings), UINT64_MAX);
}

}  // namespace

std::optional<Blocks> blocks_of(const EntryLook& look, const Source& base) {
  if (!look.recipe || !look.recipe->steps.empty() || !look.recipe->missing.empty()) return std::nullopt;
  std::uint64_t begin = 0;
  auto out = lying_together(*look.recipe, base, begin);
  if (!out || !find_table(look, begin, *out)) return std::nullopt;
  return out;
}

Extent extent_of(const EntryLook& look, const Source& base) {
  if (auto blocks = blocks_of(look, base)) return {blocks->first.at, blocks->end - blocks->first.at, true};
  SourcePtr bytes = stored_bytes(look.recipe);
  if (!bytes) return {};
  if (bytes->size() > 0) return extent_of(*bytes, base);
  auto begin = begin_of(*look.recipe, *bytes, base);
  return begin ? Extent{*begin, 0, true} : Extent{};
}

Assembly in_blocks(const Blocks& blocks, const Content& content, std::uint64_t block_size,
                   const PackSettings& settings, const Source& base) {
  Assembly table, data;
  StreamPtr plain = content.stream();
  Bytes buffer(static_cast<std::size_t>(block_size));
  while (std::size_t count = read_fully(*plain, buffer)) {
    ByteView block = ByteView(buffer).first(count);
    Bytes stored = blocks.steps.empty() ? Bytes() : packed_by(blocks.steps, block, settings);
    if (stored.empty() || stored.size() >= block.size()) stored.assign(block.begin(), block.end());
    auto number = bytes_for(blocks.first, static_cast<std::int64_t>(stored.size()), base);
    if (!number) throw Unsupported(fmt::format("a block of {} bytes, whose size has no room", stored.size()));
    table.add(*std::move(number));
    data.add(std::move(stored));
  }
  table.add(data);
  return table;
}

}  // namespace operculum::layout
