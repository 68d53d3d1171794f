#include "support/erofs_writer.h"

#include <algorithm>
#include <stdexcept>

#include "support/block_packer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kBlock = 4096, kMetaBlock = 1, kSlot = 32;

unsigned number_of(BlockCodec codec) {
  switch (codec) {
    case BlockCodec::lz4:
      return 0;
    case BlockCodec::micro_lzma:
      return 1;
    case BlockCodec::deflate:
      return 2;
    case BlockCodec::zstd:
      return 3;
    default:
      throw std::runtime_error("EROFS has no such codec");
  }
}

/// Extents that pack into one block each, as far as they can be made longer by halves.
struct Extent {
  std::size_t begin, length;
  Bytes packed;  // empty: kept as it is
};

std::vector<Extent> pack(ByteView data, BlockCodec codec) {
  std::vector<Extent> out;
  for (std::size_t at = 0; at < data.size();) {
    std::size_t length = std::min<std::size_t>(data.size() - at, 16 * kBlock - 100);
    Bytes packed;
    for (;; length = std::max(length / 2, kBlock)) {  // one beginning in each cluster at most
      packed = pack_block(codec, data.subspan(at, length));
      if (packed.size() <= kBlock || length <= kBlock) break;
    }
    if (packed.size() > kBlock) {
      length = std::min(length, kBlock);
      packed.clear();
    }
    out.push_back({at, length, packed});
    at += length;
  }
  return out;
}

}  // namespace

Bytes make_erofs(const SampleTree& tree, BlockCodec codec) {
  Canvas image(2 * kBlock);
  std::vector<const SampleNode*> files;
  for (const SampleNode& node : tree) {
    if (node.kind == EntryKind::file && node.parent().empty()) files.push_back(&node);
  }
  std::sort(files.begin(), files.end(),
            [](const SampleNode* a, const SampleNode* b) { return a->path < b->path; });

  // metadata: the root at slot 1, then each file's inode with its index
  std::size_t meta = kMetaBlock * kBlock, slot = 2;
  struct Placed {
    std::size_t slot;
    std::vector<Extent> extents;
  };
  std::vector<Placed> placed;
  for (const SampleNode* file : files) {
    std::vector<Extent> extents = pack(file->data, codec);
    std::size_t clusters = (file->data.size() + kBlock - 1) / kBlock;
    placed.push_back({slot, extents});
    slot += (kSlot + 16 + clusters * 8 + kSlot - 1) / kSlot;
  }
  std::size_t next = kMetaBlock + (slot * kSlot + kBlock - 1) / kBlock;  // block for what comes next
  for (std::size_t i = 0; i < files.size(); ++i) {
    std::size_t at = meta + placed[i].slot * kSlot, size = files[i]->data.size();
    std::size_t clusters = (size + kBlock - 1) / kBlock;
    image.put(at, ByteWriter()
                      .u16(1 << 1)
                      .u16(0)
                      .u16(0100644)
                      .u16(1)
                      .u32(size)
                      .u32(0)
                      .u32(0)
                      .u32(i + 2)
                      .u16(0)
                      .u16(0)
                      .u32(0)
                      .view());
    ByteWriter map;
    map.u32(0).u16(0).u8(number_of(codec)).u8(0).zeros(8);
    std::vector<Bytes> index(clusters, ByteWriter().u16(2).u16(kBlock).u16(1).u16(1).take());
    for (const Extent& extent : placed[i].extents) {
      unsigned type = extent.packed.empty() ? 0 : 1;
      index[extent.begin / kBlock] = ByteWriter().u16(type).u16(extent.begin % kBlock).u32(next).take();
      Bytes block(kBlock);
      if (extent.packed.empty()) {
        std::copy_n(files[i]->data.begin() + static_cast<std::ptrdiff_t>(extent.begin), extent.length,
                    block.begin());
      } else {  // zeros come first
        std::copy(extent.packed.begin(), extent.packed.end(),
                  block.end() - static_cast<std::ptrdiff_t>(extent.packed.size()));
      }
      image.put(next++ * kBlock, block);
    }
    for (const Bytes& one : index) map.bytes(one);
    image.put(at + kSlot, map.view());
  }

  // the root's entries: names behind the records
  ByteWriter names, rows;
  std::vector<std::pair<std::string, std::size_t>> entries = {{".", 1}, {"..", 1}};
  for (std::size_t i = 0; i < files.size(); ++i) entries.emplace_back(files[i]->name(), placed[i].slot);
  std::sort(entries.begin(), entries.end());
  for (const auto& [name, number] : entries) {
    rows.u64(number).u16(entries.size() * 12 + names.size()).u8(name.starts_with('.') ? 2 : 1).u8(0);
    names.text(name);
  }
  Bytes folder = rows.bytes(names.view()).take();
  image.put(meta + kSlot, ByteWriter()
                              .u16(0)
                              .u16(0)
                              .u16(040755)
                              .u16(2)
                              .u32(folder.size())
                              .u32(0)
                              .u32(next)
                              .u32(1)
                              .u16(0)
                              .u16(0)
                              .u32(0)
                              .view());
  folder.resize(kBlock);
  image.put(next++ * kBlock, folder);

  ByteWriter super;
  super.u32(0xE0F5E1E2)
      .u32(0)
      .u32(0)
      .u8(12)
      .u8(0)
      .u16(1)
      .u64(files.size() + 1)
      .u64(1772373908)
      .u32(0)
      .u32(next)
      .u32(kMetaBlock)
      .u32(0);
  super.zeros(16).text("gauge").zeros(11).u32(1).u16(1U << number_of(codec)).zeros(42);
  image.put(1024, super.view());
  Bytes out = image.take();
  out.resize(next * kBlock);
  return out;
}

}  // namespace operculum::test
