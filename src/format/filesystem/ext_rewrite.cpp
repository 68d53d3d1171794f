#include "format/filesystem/ext_rewrite.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/numbers.h"
#include "base/text.h"
#include "format/filesystem/ext_blocks.h"
#include "format/filesystem/ext_records.h"

namespace operculum::ext {
namespace {

constexpr std::size_t kDirectPointers = 12, kAllPointers = 15;  // of the older way
constexpr std::size_t kInInode = 4;                             // extents

/// A run of blocks.
struct Run {
  std::uint64_t logical = 0, start = 0, count = 0;
};

std::vector<Run> runs_of(const std::vector<std::uint64_t>& blocks) {
  std::vector<Run> out;
  for (std::size_t i = 0; i < blocks.size(); ++i) {
    bool goes_on =
        !out.empty() && out.back().start + out.back().count == blocks[i] && out.back().count < kMostInExtent;
    if (goes_on) {
      ++out.back().count;
    } else {
      out.push_back({i, blocks[i], 1});
    }
  }
  return out;
}

class Rewriter {
 public:
  Rewriter(const Volume& volume, SpoolBudget& budget)
      : volume_(volume),
        super_(volume.super()),
        budget_(budget),
        patches_(volume.image()),
        in_use_(volume, patches_) {}

  Assembly run(const std::vector<NewContent>& contents) {
    for (const NewContent& one : contents) replace(one);
    in_use_.write(patches_);
    return patches_.assembly(volume_.image()->size());
  }

 private:
  void replace(const NewContent& one) {
    Inode inode = volume_.inode(one.inode);
    constexpr std::uint32_t kVerity = 0x100000;
    if (inode.has(inline_data_flag) || inode.has(encrypted_flag) || inode.has(huge_file_flag) ||
        (inode.flags & kVerity) != 0)
      throw Unsupported(fmt::format("another content of \"{}\", which the file system keeps in a special way",
                                    escape(one.path)));
    SourcePtr content = random_access(*one.content, budget_);
    std::uint64_t count = (content->size() + super_.block_size - 1) / super_.block_size;
    BlocksOfFile before = volume_.blocks_of(inode);
    spare_tables_ = before.tables;
    std::uint64_t had = before.data.size() + before.tables.size();
    std::vector<std::uint64_t> blocks = before.data;
    if (blocks.size() > count) {
      for (std::size_t i = static_cast<std::size_t>(count); i < blocks.size(); ++i) in_use_.free(blocks[i]);
      blocks.resize(static_cast<std::size_t>(count));
    }
    tables_ = 0;
    near_ = blocks.empty() ? super_.first_data_block : blocks.back() + 1;
    if (near_ >= super_.blocks) near_ = super_.first_data_block;
    if (blocks.size() < count) {
      std::vector<std::uint64_t> more = in_use_.take(count - blocks.size(), near_);
      blocks.insert(blocks.end(), more.begin(), more.end());
    }
    Bytes map = inode.has(extents_flag) ? extent_map(inode, blocks, one.path) : pointer_map(blocks, one.path);
    for (std::uint64_t left : spare_tables_) in_use_.free(left);
    put_data(content, blocks);
    put_inode(inode, content->size(), blocks.size() + tables_, had, map);
  }

  void put_data(const SourcePtr& content, const std::vector<std::uint64_t>& blocks) {
    std::uint64_t size = content->size();
    for (const Run& run : runs_of(blocks)) {
      std::uint64_t from = run.logical * super_.block_size, room = run.count * super_.block_size;
      std::uint64_t length = std::min(room, size - from), at = run.start * super_.block_size;
      patches_.put(at, content, from, length);
      patches_.put_zeros(at + length, room - length);
    }
  }

  /// A block for a table: one that was a table of the file before, where there is one left.
  std::uint64_t table_block() {
    ++tables_;
    if (spare_tables_.empty()) return in_use_.take(1, near_).front();
    std::uint64_t block = spare_tables_.back();
    spare_tables_.pop_back();
    return block;
  }

  // ---- extents

  static ExtentRow row_of(const Run& run) {
    return {static_cast<std::uint32_t>(run.logical), static_cast<std::uint16_t>(run.count),
            static_cast<std::uint16_t>(run.start >> 32), static_cast<std::uint32_t>(run.start)};
  }

  Bytes extent_map(const Inode& inode, const std::vector<std::uint64_t>& blocks, const std::string& path) {
    std::vector<Run> runs = runs_of(blocks);
    Bytes out;
    if (runs.size() <= kInInode) {
      append_structure(out, ExtentHead{.entries = static_cast<std::uint16_t>(runs.size()), .most = kInInode});
      for (const Run& run : runs) append_structure(out, row_of(run));
      return out;
    }
    std::size_t most = (super_.block_size - size_on_disk<ExtentHead>) / size_on_disk<ExtentRow>;
    std::size_t leaves = (runs.size() + most - 1) / most;
    if (leaves > kInInode) {
      throw Unsupported(fmt::format("\"{}\" in so many pieces as the file system has room for ({})",
                                    escape(path), runs.size()));
    }
    append_structure(out,
                     ExtentHead{.entries = static_cast<std::uint16_t>(leaves), .most = kInInode, .depth = 1});
    for (std::size_t i = 0; i < leaves; ++i) {
      std::size_t end = std::min(runs.size(), (i + 1) * most);
      std::uint64_t block = table_block();
      ExtentIndex index;
      index.logical = static_cast<std::uint32_t>(runs[i * most].logical);
      index.leaf_low = static_cast<std::uint32_t>(block);
      index.leaf_high = static_cast<std::uint16_t>(block >> 32);
      append_structure(out, index);
      put_leaf(inode, block,
               {runs.begin() + static_cast<std::ptrdiff_t>(i * most),
                runs.begin() + static_cast<std::ptrdiff_t>(end)},
               most);
    }
    return out;
  }

  void put_leaf(const Inode& inode, std::uint64_t block, const std::vector<Run>& runs, std::size_t most) {
    Bytes raw;
    append_structure(raw, ExtentHead{.entries = static_cast<std::uint16_t>(runs.size()),
                                     .most = static_cast<std::uint16_t>(most)});
    for (const Run& run : runs) append_structure(raw, row_of(run));
    std::size_t tail = size_on_disk<ExtentHead> + most * size_on_disk<ExtentRow>;
    raw.resize(super_.block_size);
    if (super_.has(metadata_checksum_feature)) {
      std::uint32_t sum = crc32c(volume_.seed_of(inode), ByteView(raw).first(tail));
      store_number(raw.data() + tail, 4, sum);
    }
    patches_.put(block * super_.block_size, raw);
  }

  // ---- the older way

  static void put_pointer(Bytes& out, std::size_t index, std::uint64_t block) {
    store_number(out.data() + index * 4, 4, block);
  }

  Bytes pointer_map(const std::vector<std::uint64_t>& blocks, const std::string& path) {
    Bytes out(kAllPointers * 4);
    std::size_t next = 0;
    for (std::size_t i = 0; i < kDirectPointers && next < blocks.size(); ++i)
      put_pointer(out, i, blocks[next++]);
    for (unsigned level = 1; level <= 3 && next < blocks.size(); ++level)
      put_pointer(out, kDirectPointers + level - 1, pointer_table(blocks, next, level));
    if (next < blocks.size())
      throw Unsupported(
          fmt::format("\"{}\" as large as this in a file system without extents", escape(path)));
    return out;
  }

  std::uint64_t pointer_table(const std::vector<std::uint64_t>& blocks, std::size_t& next, unsigned level) {
    std::uint64_t block = table_block();
    Bytes raw(super_.block_size);
    for (std::size_t i = 0; i < super_.block_size / 4 && next < blocks.size(); ++i) {
      std::uint64_t to = level == 1 ? blocks[next] : pointer_table(blocks, next, level - 1);
      if (level == 1) ++next;
      put_pointer(raw, i, to);
    }
    patches_.put(block * super_.block_size, raw);
    return block;
  }

  // ---- the inode

  void put_inode(const Inode& inode, std::uint64_t size, std::uint64_t has, std::uint64_t had,
                 const Bytes& map) {
    std::uint64_t at = volume_.inode_place(inode.number);
    Bytes raw = patches_.read(at, super_.inode_size);
    auto places = read_structure<InodeRecord>(raw.data());
    places.size_low = static_cast<std::uint32_t>(size);
    places.size_high = static_cast<std::uint32_t>(size >> 32);
    constexpr std::uint64_t kUnit = 512;  // what i_blocks counts
    std::uint64_t blocks = places.blocks_low | std::uint64_t{places.blocks_high} << 32;
    blocks += (has - had) * (super_.block_size / kUnit);
    places.blocks_low = static_cast<std::uint32_t>(blocks);
    places.blocks_high = static_cast<std::uint16_t>(blocks >> 32);
    places.block.fill(0);
    std::copy(map.begin(), map.end(), places.block.begin());
    write_structure(places, raw.data());
    volume_.put_inode_sum(inode, raw);
    patches_.put(at, raw);
  }

  const Volume& volume_;
  const Superblock& super_;
  SpoolBudget& budget_;
  Patches patches_;
  BlocksInUse in_use_;
  std::vector<std::uint64_t> spare_tables_;
  std::uint64_t tables_ = 0;  // that the file has now
  std::uint64_t near_ = 0;
};

}  // namespace

Assembly rewrite(const Volume& volume, const std::vector<NewContent>& contents, SpoolBudget& budget) {
  const Superblock& super = volume.super();
  if (super.has(big_alloc_feature))
    throw Unsupported("writing an ext file system with clusters of blocks (bigalloc)");
  if (super.has(recover_feature))
    throw Unsupported("writing an ext file system that was not unmounted: its journal would undo it");
  return Rewriter(volume, budget).run(contents);
}

}  // namespace operculum::ext
