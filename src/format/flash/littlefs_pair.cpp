#include "format/flash/littlefs_pair.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/cursor.h"
#include "base/error.h"

namespace operculum::littlefs {
namespace {

// Kinds of tags (specification, "Metadata tags"): the upper three bits are the abstract kind.
enum Kind : std::uint16_t {
  name_kind = 0x000,
  user_kind = 0x300,
  structure_kind = 0x200,
  splice_kind = 0x400,
  crc_kind = 0x500,
  tail_kind = 0x600,
  state_kind = 0x700
};
constexpr std::uint32_t kNoData = 0x3FF;
constexpr std::size_t kMostItems = 0x3FF;

std::uint32_t big(ByteView raw) {
  return std::uint32_t{raw[0]} << 24 | raw[1] << 16 | raw[2] << 8 | raw[3];
}

struct Tag {
  std::uint16_t type = 0, id = 0;
  std::uint32_t size = 0;  ///< kNoData: it takes something away
};
Tag tag_of(std::uint32_t word) {
  return {static_cast<std::uint16_t>(word >> 20 & 0x7FF), static_cast<std::uint16_t>(word >> 10 & 0x3FF),
          word & 0x3FF};
}

struct Read {
  std::uint32_t revision = 0;
  Pair pair;
};

/// The items as tags change them.
class State {
 public:
  void apply(const Tag& tag, ByteView data, std::uint64_t at) {
    switch (tag.type & 0x700) {
      case splice_kind:
        return splice(tag);
      case tail_kind:
        if (auto words = two_words(data)) pair.tail = {words->first, words->second};
        pair.hard_tail = (tag.type & 1) != 0;
        return;
      case name_kind:
      case structure_kind:
      case user_kind:
        return set(tag, data, at);
      default:
        return;  // states that are moved between pairs, checksums
    }
  }
  Pair pair;

 private:
  void splice(const Tag& tag) {
    auto place =
        pair.items.begin() + std::min<std::ptrdiff_t>(tag.id, static_cast<std::ptrdiff_t>(pair.items.size()));
    if (tag.type == 0x401 && pair.items.size() < kMostItems) pair.items.insert(place, Item{});
    if (tag.type == 0x4FF && tag.id < pair.items.size()) pair.items.erase(place);
  }

  void set(const Tag& tag, ByteView data, std::uint64_t at) {
    if (tag.id >= kMostItems) return;
    if (tag.id >= pair.items.size()) pair.items.resize(tag.id + std::size_t{1});
    Item& item = pair.items[tag.id];
    bool gone = tag.size == kNoData;
    if ((tag.type & 0x700) == name_kind) {
      item.type = gone ? 0 : tag.type & 0xFF;
      item.name = std::string(as_text(data));
    } else if ((tag.type & 0x700) == structure_kind) {
      item.structure = gone ? 0 : tag.type;
      item.data_at = at;
      item.data.assign(data.begin(), data.end());
    } else if (gone) {
      item.attributes.erase(static_cast<std::uint8_t>(tag.type));
    } else {
      item.attributes[static_cast<std::uint8_t>(tag.type)] = Bytes(data.begin(), data.end());
    }
  }
};

/// One block: commits up to the last one whose checksum fits; nothing when not even the first does.
std::optional<Read> read_block(const Source& image, std::uint32_t block_size, std::uint32_t block) {
  std::uint64_t begin = std::uint64_t{block} * block_size;
  Bytes raw = read_up_to(image, begin, block_size);
  if (raw.size() < 12) return std::nullopt;
  Read out{load_little<std::uint32_t>(raw.data()), {}};
  State state;
  std::uint32_t before = 0xFFFFFFFF;
  std::size_t commit = 0, at = 4;
  bool sound = false;
  while (at + 4 <= raw.size()) {
    std::uint32_t word = big(ByteView(raw).subspan(at, 4)) ^ before;
    if ((word & 0x80000000) != 0) break;  // erased
    Tag tag = tag_of(word);
    std::size_t size = tag.size == kNoData ? 0 : tag.size;
    if (at + 4 + size > raw.size()) break;
    if ((tag.type & 0x780) == crc_kind) {
      if (size < 4) break;
      std::uint32_t stored = load_little<std::uint32_t>(raw.data() + at + 4);
      if (crc32_plain(~0U, ByteView(raw).subspan(commit, at + 4 - commit)) != stored) break;
      out.pair = state.pair;
      sound = true;
      before = word ^ (std::uint32_t{tag.type} & 1)
                          << 31;  // whether the next one begins with its highest bit inverted
      at += 4 + size;
      commit = at;
      continue;
    }
    state.apply(tag, ByteView(raw).subspan(at + 4, size), begin + at + 4);
    before = word;
    at += 4 + size;
  }
  return sound ? std::optional(std::move(out)) : std::nullopt;
}

}  // namespace

std::optional<TwoWords> two_words(ByteView data) {
  if (data.size() < size_on_disk<TwoWords>) return std::nullopt;
  return read_structure<TwoWords>(data.data());
}

Pair read_pair(const Source& image, std::uint32_t block_size, PairPlace place) {
  auto first = read_block(image, block_size, place.first),
       second = read_block(image, block_size, place.second);
  if (!first && !second)
    throw Malformed(fmt::format("LittleFS: neither block {} nor block {} holds sound metadata", place.first,
                                place.second));
  if (!second) return std::move(first->pair);
  if (!first) return std::move(second->pair);
  bool second_newer = static_cast<std::int32_t>(second->revision - first->revision) > 0;
  return std::move((second_newer ? second : first)->pair);
}

}  // namespace operculum::littlefs
