#include "format/filesystem/indirect_blocks.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "base/error.h"
#include "base/structure.h"

namespace operculum {
namespace {

class Walk {
 public:
  Walk(const IndirectBlocks& blocks, std::uint64_t size) : blocks_(blocks), size_(size) {}

  std::vector<Extent> all() {
    for (std::uint64_t pointer : blocks_.direct) add_block(pointer);
    std::uint64_t covers = blocks_.pointers_in_block * blocks_.block_size;  // bytes of the file
    unsigned depth = 1;
    for (std::uint64_t pointer : blocks_.indirect) {
      if (done()) break;
      add_tree(pointer, depth++, covers);
      if (covers > size_) break;
      covers *= blocks_.pointers_in_block;
    }
    return std::move(out_);
  }

 private:
  bool done() const { return at_ >= size_; }

  void add_block(std::uint64_t pointer) {
    if (done()) return;
    if (pointer != 0)
      add_extent(out_, {at_, blocks_.place(pointer), std::min(blocks_.block_size, size_ - at_)});
    at_ += blocks_.block_size;
  }

  void add_tree(std::uint64_t pointer, unsigned depth, std::uint64_t covers) {
    if (pointer == 0) {
      at_ += covers;
      return;
    }
    if (!seen_.insert(pointer).second)
      throw Malformed(fmt::format("block {} of pointers is met twice in one file", pointer));
    for (std::uint64_t next : blocks_.read(blocks_.place(pointer))) {
      if (done()) return;
      if (depth == 1) {
        add_block(next);
      } else {
        add_tree(next, depth - 1, covers / blocks_.pointers_in_block);
      }
    }
  }

  const IndirectBlocks& blocks_;
  std::uint64_t size_, at_ = 0;
  std::unordered_set<std::uint64_t> seen_;
  std::vector<Extent> out_;
};

}  // namespace

void add_extent(std::vector<Extent>& out, const Extent& more) {
  if (!out.empty() && out.back().logical + out.back().length == more.logical &&
      out.back().stored + out.back().length == more.stored) {
    out.back().length += more.length;
  } else {
    out.push_back(more);
  }
}

std::vector<std::uint64_t> pointers_in(ByteView raw, std::size_t width, std::endian order) {
  std::vector<std::uint64_t> out;
  out.reserve(raw.size() / width);
  for (std::size_t at = 0; at + width <= raw.size(); at += width)
    out.push_back(load_number(raw.data() + at, width, order));
  return out;
}

std::vector<Extent> extents_of(const IndirectBlocks& blocks, std::uint64_t size) {
  return Walk(blocks, size).all();
}

}  // namespace operculum
