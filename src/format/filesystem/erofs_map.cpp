// The index of packed files: one record for each logical cluster, in a plain form of 8 bytes and a compact
// one whose packs of 2 or 16 records share a block address. Linux kernel documentation, filesystems/erofs,
// and its disk format header.
#include "format/filesystem/erofs_map.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <optional>

#include "base/error.h"
#include "format/filesystem/erofs_records.h"

namespace operculum::erofs {
namespace {

enum Advise : std::uint16_t {
  compacted2_advice = 0x1,
  big_cluster1_advice = 0x2,
  big_cluster2_advice = 0x4,
  inline_cluster_advice = 0x8,
  interlaced_cluster_advice = 0x10,
  fragment_cluster_advice = 0x20,
};
enum Type : std::uint8_t { plain_cluster = 0, head1_cluster = 1, not_head_cluster = 2, head2_cluster = 3 };

constexpr std::uint32_t kBlockCount = 1U << 11;  // in a distance: it is a count of packed blocks instead
constexpr std::uint64_t kLargestExtent = 64 << 20, kPiece = 1 << 20;  // bytes
constexpr std::uint64_t kMostPieces = 1 << 16;                        // of one fragment: 64 GiB
constexpr std::uint64_t kMostClusters = 1 << 24;  // of one file: 64 GiB in clusters of the usual size

struct Record {
  Type type = plain_cluster;
  std::uint32_t within = 0;  // where in its cluster the extent begins
  std::uint64_t block = 0;   // of the packed bytes
  std::uint32_t blocks = 0;  // how many, where stated
};

class Map {
 public:
  Map(const Source& meta, const PackedFile& file) : meta_(meta), file_(file) {
    auto header = read_structure<MapHeader>(
        read_exactly(meta, file.map_at, size_on_disk<MapHeader>, "EROFS map header").data());
    if ((header.h_clusterbits & MapHeader::kWholeFragment) != 0) {
      whole_fragment_ = header.whole_fragment();
      return;
    }
    fragment_ = header.fragment();
    inline_size_ = header.h_idata_size;
    advise_ = header.h_advise;
    algorithms_[0] = header.h_algorithms & 15;
    algorithms_[1] = header.h_algorithms >> 4;
    bits_ = static_cast<unsigned>(std::countr_zero(file.block_size)) + (header.h_clusterbits & 7);
    count_ = (file.size + (std::uint64_t{1} << bits_) - 1) >> bits_;
    if (count_ > kMostClusters)
      throw Malformed(fmt::format("EROFS: a packed file of {} bytes is larger than any here", file.size));
  }

  std::vector<Block> blocks() {
    std::vector<Block> out;
    if (whole_fragment_) {
      add_fragment(0, *whole_fragment_, out);
      return out;
    }
    std::optional<Block> open;  // its end is known when the next begins
    bool wants_count = false;
    for (std::uint64_t i = 0; i < count_; ++i) {
      Record record = load(i);
      if (record.type == not_head_cluster) {
        if (open && wants_count && record.blocks > 0)
          open->stored_size = std::uint64_t{record.blocks} * file_.block_size;
        wants_count = false;
        continue;
      }
      std::uint64_t begin = (i << bits_) + record.within;
      if (begin >= file_.size) break;  // marks the end
      if (open) close(*open, begin, out);
      open = head(record, begin);
      wants_count = (record.type == head1_cluster && (advise_ & big_cluster1_advice) != 0) ||
                    (record.type != head1_cluster && (advise_ & big_cluster2_advice) != 0);
      last_block_ = record.block;
    }
    if (!open) throw Malformed("EROFS: the map of a packed file has no beginning");
    if ((advise_ & inline_cluster_advice) != 0) {
      open->stored_offset = after_;
      open->stored_size = inline_size_;
    } else if ((advise_ & fragment_cluster_advice) != 0) {
      add_fragment(open->unpacked_offset, fragment_ | (file_.compact ? 0 : last_block_ << 32), out);
      return out;
    }
    close(*open, file_.size, out);
    return out;
  }

 private:
  /// The rest of the file from `begin` on lies at `at` in the file that holds fragments: pieces that are
  /// small enough to be held.
  void add_fragment(std::uint64_t begin, std::uint64_t at, std::vector<Block>& out) const {
    std::uint64_t size = file_.size - begin;
    if (at > file_.fragments || size > file_.fragments - at)
      throw Malformed(
          fmt::format("EROFS: a fragment of {} bytes at {} is not within the {} of the file that holds them",
                      size, at, file_.fragments));
    if (size / kPiece > kMostPieces)
      throw Malformed(fmt::format("EROFS: a fragment of {} bytes is larger than any here", size));
    for (std::uint64_t done = 0; done < size; done += kPiece) {
      Block piece{begin + done, 0, at + done, 0, fragment_packing};
      close(piece, begin + std::min(size, done + kPiece), out);
    }
  }

  static void close(Block& block, std::uint64_t end, std::vector<Block>& out) {
    if (end <= block.unpacked_offset && !(out.empty() && end == 0))
      throw Malformed("EROFS: the extents of a packed file are out of order");
    block.unpacked_size = end - block.unpacked_offset;
    if (block.unpacked_size > kLargestExtent)
      throw Malformed(fmt::format("EROFS: an extent of {} bytes is not possible", block.unpacked_size));
    std::uint64_t expected = out.empty() ? 0 : out.back().unpacked_offset + out.back().unpacked_size;
    if (block.unpacked_offset != expected) throw Malformed("EROFS: the map of a packed file has a gap");
    out.push_back(block);
  }

  Block head(const Record& record, std::uint64_t begin) const {
    std::uint32_t plain = (advise_ & interlaced_cluster_advice) != 0 ? interlaced_packing : shifted_packing;
    std::uint32_t tag =
        record.type == plain_cluster ? plain : algorithms_[record.type == head1_cluster ? 0 : 1];
    if (record.type != plain_cluster && tag > zstd_packing)
      throw Unsupported(fmt::format("EROFS compression number {}", tag));
    return {begin, 0, record.block * file_.block_size, std::uint64_t{1} << bits_, tag};
  }

  Record load(std::uint64_t index) { return file_.compact ? load_compact(index) : load_plain(index); }

  Record load_plain(std::uint64_t index) {
    constexpr std::size_t index_size = size_on_disk<ClusterIndex>;
    std::uint64_t at = file_.map_at + full_index_at + index * index_size;
    auto stored = read_structure<ClusterIndex>(read_exactly(meta_, at, index_size, "EROFS index").data());
    after_ = at + index_size;
    Record record;
    record.type = static_cast<Type>(stored.type());
    if (record.type == not_head_cluster) {
      if ((stored.distance() & kBlockCount) != 0) record.blocks = stored.distance() & ~kBlockCount;
    } else {
      record.within = stored.di_clusterofs;
      record.block = stored.block;
    }
    return record;
  }

  Record load_compact(std::uint64_t index) {
    std::uint64_t at = file_.map_at + size_on_disk<MapHeader>;
    std::uint64_t first = (32 - at % 32) / 4 % 8;  // until packs of 32 bytes are aligned
    std::uint64_t small =
        (advise_ & compacted2_advice) != 0 && first < count_ ? (count_ - first) / 16 * 16 : 0;
    if (index < first) return unpack(at + index * 4, 4);
    at += first * 4;
    index -= first;
    if (index < small) return unpack(at + index * 2, 2);
    return unpack(at + small * 2 + (index - small) * 4, 4);
  }

  Record unpack(std::uint64_t at, std::uint64_t width) {
    if (width == 2 ? bits_ > 12 : bits_ > 14) throw Unsupported("EROFS compact indexes for large clusters");
    std::uint64_t records = width == 4 ? 2 : 16, pack = records * width;
    std::uint64_t begin = at / pack * pack;
    after_ = begin + pack;
    Bytes raw = read_exactly(meta_, begin, pack, "EROFS compact index");
    raw.resize(raw.size() + 4);  // the last record's bits are read as a word
    std::size_t bits = (pack - 4) * 8 / records;
    unsigned low_bits = std::max(bits_, 12U);
    auto decode = [&](std::int64_t i, Type& type) {
      std::size_t place = bits * static_cast<std::size_t>(i);
      std::uint64_t word =
          (load_little<std::uint32_t>(raw.data() + place / 8) | (std::uint64_t{raw[place / 8 + 4]} << 32)) >>
          (place & 7);
      type = static_cast<Type>((word >> low_bits) & 3);
      return static_cast<std::uint32_t>(word & ((1U << low_bits) - 1));
    };
    auto i = static_cast<std::int64_t>((at - begin) / width);
    Record record;
    std::uint32_t low = decode(i, record.type);
    if (record.type == not_head_cluster) {
      if ((low & kBlockCount) != 0) record.blocks = low & ~kBlockCount;
      return record;
    }
    record.within = low;
    bool big = (advise_ & big_cluster1_advice) != 0;
    std::uint64_t before = big ? 0 : 1;  // blocks of this pack that come before
    while (i > 0) {
      Type type = plain_cluster;
      low = decode(--i, type);
      if (!big) {
        if (type == not_head_cluster) i -= low;
        if (i >= 0) ++before;
      } else if (type != not_head_cluster) {
        ++before;
      } else if ((low & kBlockCount) != 0) {
        --i;
        before += low & ~kBlockCount;
      } else {
        if (low <= 1) throw Malformed("EROFS compact index: a distance makes no sense");
        i -= low - 2;
      }
    }
    record.block = std::uint64_t{load_little<std::uint32_t>(raw.data() + pack - 4)} + before;
    return record;
  }

  const Source& meta_;
  PackedFile file_;
  std::optional<std::uint64_t> whole_fragment_;
  std::uint64_t fragment_ = 0, count_ = 0, after_ = 0, last_block_ = 0;
  std::uint16_t inline_size_ = 0, advise_ = 0;
  std::uint8_t algorithms_[2] = {};
  unsigned bits_ = 12;
};

}  // namespace

std::vector<Block> map_blocks(const Source& meta, const PackedFile& file) {
  if (file.size == 0) return {};
  return Map(meta, file).blocks();
}

}  // namespace operculum::erofs
