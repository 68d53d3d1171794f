// A chunk is a tag of four letters or digits, the size of its data, and that. What a tag stands for is the
// same everywhere: if the data of all chunks of one tag is made of chunks, to the last byte, they are groups.
#include "study/chunk_search.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <map>
#include <set>

#include "study/hypothesis.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostFirst = 64, kTag = 4, kHeader = 8;  // bytes
constexpr std::size_t kMostChunks = 100'000, kLeastChunks = 5, kMostDeep = 32, kRowsKeptOfChunks = 4096;
constexpr double kBitsOfTagged = 6, kMostBitsOfSize = 8, kMostBitsOfChunks = 400;

struct Chunk {
  std::uint64_t at = 0, size = 0;  ///< of the header; of the data behind it
  std::string tag;
  std::uint64_t data() const { return at + kHeader; }
  std::uint64_t end() const { return data() + size; }
};

/// What tags stand for.
enum class Meaning { leaf, group, kind };

class ChunkReader {
 public:
  ChunkReader(ByteView bytes, const Chunks& form) : bytes_(bytes), form_(form) {}

  bool has_tag(std::uint64_t at) const {
    return at + kTag <= bytes_.size() && is_tag(bytes_.subspan(static_cast<std::size_t>(at), kTag), " ");
  }

  std::optional<Chunk> chunk(std::uint64_t at, std::uint64_t end) const {
    const std::uint64_t tag_at = at + (form_.size_first ? kTag : 0);
    if (at + kHeader > end || !has_tag(tag_at)) return std::nullopt;
    const Byte* size_at = bytes_.data() + at + (form_.size_first ? 0 : kTag);
    std::uint64_t size = read_number(size_at, form_.size);
    if (size < form_.bias || size - form_.bias > end - at - kHeader) return std::nullopt;
    return Chunk{at, size - form_.bias,
                 std::string(as_text(bytes_.subspan(static_cast<std::size_t>(tag_at), kTag)))};
  }

  /// The chunks that fill a range to its end; empty when they do not. Behind the last one filling may lack.
  std::vector<Chunk> chunks(std::uint64_t at, std::uint64_t end) const {
    std::vector<Chunk> all;
    while (at < end) {
      auto next = chunk(at, end);
      if (!next || all.size() == kMostChunks) return {};
      at = std::min(end, round_up(next->end(), form_.align));
      all.push_back(std::move(*next));
    }
    return all;
  }

  const Chunks& form() const { return form_; }

 private:
  ByteView bytes_;
  Chunks form_;
};

/// Goes through all chunks from the outermost on.
class ChunkWalk {
 public:
  ChunkWalk(const ChunkReader& reader, std::uint64_t end) : reader_(reader), end_(end) {}

  /// Settles what tags stand for; false when there is nothing in anything.
  bool settle() {
    outer_ = reader_.chunks(reader_.form().begin, end_);
    if (outer_.empty()) return false;
    for (;;) {
      std::size_t leaves = leaves_.size();
      seen_.clear();
      headers = 0;
      bits = 0;
      descend(outer_, 0);
      // One that cannot be a group is none; what was seen beneath it does not count.
      for (const auto& [tag, seen] : seen_)
        if (meaning(tag) == Meaning::leaf) leaves_.insert(tag);
      if (leaves_.size() == leaves) break;
    }
    return std::any_of(seen_.begin(), seen_.end(),
                       [&](const auto& one) { return meaning(one.first) != Meaning::leaf; });
  }

  Meaning meaning(const std::string& tag) const {
    auto seen = seen_.find(tag);
    if (seen == seen_.end() || leaves_.contains(tag)) return Meaning::leaf;
    return seen->second.groups == seen->second.tried  ? Meaning::group
           : seen->second.kinds == seen->second.tried ? Meaning::kind
                                                      : Meaning::leaf;
  }

  std::vector<Chunk> leaves() const {
    std::vector<Chunk> all;
    collect(outer_, all);
    return all;
  }

  std::vector<std::string> tags(Meaning wanted) const {
    std::vector<std::string> all;
    for (const auto& [tag, seen] : seen_)
      if (meaning(tag) == wanted) all.push_back(tag);
    return all;
  }

  std::size_t headers = 0;  ///< that were met
  double bits = 0;

 private:
  struct Seen {
    std::size_t tried = 0, groups = 0, kinds = 0;  ///< chunks with data; such as are made of chunks
  };

  std::vector<Chunk> inside(const Chunk& chunk, Meaning how) const {
    std::uint64_t begin = chunk.data() + (how == Meaning::kind ? kTag : 0);
    if (how == Meaning::kind && (chunk.size < kTag || !reader_.has_tag(chunk.data()))) return {};
    return reader_.chunks(begin, chunk.end());
  }

  void descend(const std::vector<Chunk>& chunks, std::size_t depth) {
    for (const Chunk& chunk : chunks) {
      if (++headers > kMostChunks) return;
      bits += kBitsOfTagged + std::min(kMostBitsOfSize, static_cast<double>(std::bit_width(chunk.size)));
      if (chunk.size == 0 || depth == kMostDeep || leaves_.contains(chunk.tag)) continue;
      Seen& seen = seen_[chunk.tag];
      ++seen.tried;
      if (seen.groups + seen.kinds + 1 < seen.tried) continue;  // it is none
      for (Meaning how : {Meaning::group, Meaning::kind}) {
        std::vector<Chunk> below = inside(chunk, how);
        if (below.empty()) continue;
        (how == Meaning::group ? seen.groups : seen.kinds) += 1;
        descend(below, depth + 1);
        break;
      }
    }
  }

  void collect(const std::vector<Chunk>& chunks, std::vector<Chunk>& all) const {
    for (const Chunk& chunk : chunks) {
      Meaning how = chunk.size == 0 ? Meaning::leaf : meaning(chunk.tag);
      if (how == Meaning::leaf)
        all.push_back(chunk);
      else
        collect(inside(chunk, how), all);
    }
  }

  const ChunkReader& reader_;
  std::uint64_t end_;
  std::vector<Chunk> outer_;
  std::map<std::string, Seen> seen_;
  std::set<std::string> leaves_;  // tags that are known to be no groups
};

Hypothesis explained(const ChunkReader& reader, const ChunkWalk& walk, const SpacePtr& space) {
  Hypothesis found;
  Chunks form = reader.form();
  form.groups = walk.tags(Meaning::group);
  form.kinds = walk.tags(Meaning::kind);
  std::vector<Chunk> leaves = walk.leaves();
  Grid& grid = found.grid;
  grid.space = space;
  grid.shape.before = kHeader;
  grid.shape.data_behind = true;
  grid.begin = form.begin;
  grid.end = space->bytes.size();
  grid.count = leaves.size();
  for (const Chunk& leaf : std::span(leaves).first(std::min(leaves.size(), kRowsKeptOfChunks))) {
    ByteView header = ByteView(space->bytes).subspan(static_cast<std::size_t>(leaf.at), kHeader);
    grid.cells.insert(grid.cells.end(), header.begin(), header.end());
    grid.starts.push_back(leaf.at);
    grid.ends.push_back(leaf.data());
  }
  grid.break_at = grid.rows();
  Column size{Role::size, form.size_first ? 0 : kTag, form.size, kTag};
  size.why = "leads from each chunk to the next, and at last to the end of what it lies in";
  Column tag{Role::name, form.size_first ? kTag : 0, {}, kTag};
  tag.why = "four letters or digits in each";
  found.placement.size = size;
  found.placement.bias = static_cast<std::int64_t>(form.bias);
  found.placement.begin = form.begin + kHeader;
  found.placement.end = grid.end;
  found.placement.align = form.align;
  found.placement.bits = found.bits =
      std::min(walk.bits, kMostBitsOfChunks) - (form.align > 1 ? 2 : 0) - (form.bias > 0 ? 3 : 0);
  found.add(std::move(size));
  found.add(std::move(tag));
  found.evidence.push_back(
      fmt::format("{} chunks lie in each other and fill the file; {} {} nothing but chunks", walk.headers,
                  fmt::join(form.groups.empty() ? form.kinds : form.groups, ", "),
                  form.groups.size() + form.kinds.size() == 1 ? "is" : "are"));
  found.chunks = std::move(form);
  return found;
}

}  // namespace

std::vector<Hypothesis> search_chunks(const SpacePtr& space, const Subject& subject) {
  std::vector<Hypothesis> best;
  if (!space->plain || space->at != 0 || space->end() != subject.size()) return best;
  for (std::size_t begin = 0; begin < std::min(kMostFirst, space->bytes.size()); ++begin) {
    for (bool size_first : {false, true}) {
      for (bool big : {false, true}) {
        for (std::uint64_t bias : {std::uint64_t{0}, std::uint64_t{kHeader}}) {
          for (std::uint64_t align : {1u, 2u, 4u}) {
            ChunkReader reader(space->bytes, {{kTag, big}, size_first, bias, align, begin, {}, {}});
            if (!reader.chunk(begin, subject.size())) continue;
            ChunkWalk walk(reader, subject.size());
            if (walk.settle() && walk.headers >= kLeastChunks)
              keep_best(best, explained(reader, walk, space));
          }
        }
      }
    }
  }
  return best;
}

}  // namespace operculum::study
