// What lies between the blocks of a logical volume and those of the disc.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "format/filesystem/udf_volume.h"
#include "io/mapped_source.h"

namespace operculum::udf {
namespace {

/// A virtual partition: each block is where the allocation table says.
class VirtualSource final : public MappedSource {
 public:
  VirtualSource(SourcePtr base, std::vector<std::uint32_t> table, std::uint64_t block)
      : MappedSource(std::move(base), table.size() * block), table_(std::move(table)), block_(block) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t within = offset % block_;
    std::uint32_t block = table_[static_cast<std::size_t>(offset / block_)];
    if (block == 0xFFFFFFFF) return {MappedRun::From::zeros, block_ - within};
    return {MappedRun::From::stored, block_ - within, block * block_ + within};
  }

 private:
  std::vector<std::uint32_t> table_;
  std::uint64_t block_;
};

}  // namespace

void Volume::open_maps() {
  LittleFields f(logical_volume_, "UDF logical volume descriptor");
  std::uint32_t count =
      std::min<std::uint32_t>(read_field(&LogicalVolumeRecord::maps, logical_volume_.data()), kMostMaps);
  constexpr std::size_t kLeast = size_on_disk<PlainMap>;
  for (std::size_t at = kMapsAt, i = 0; i < count; ++i) {
    auto plain = read_structure<PlainMap>(f.bytes(at, kLeast).data());
    ByteView map = f.bytes(at, std::max<std::size_t>(plain.length, kLeast));
    at += map.size();
    if (plain.type == 1) {
      partitions_.push_back(physical(plain.partition));
      continue;
    }
    if (plain.type != 2 || plain.length < kNamedMapSize)
      throw Unsupported(fmt::format("UDF partition maps of type {}", plain.type));
    auto named = read_structure<NamedMap>(map.data());
    std::string_view id = as_text(named.name);
    SourcePtr base = physical(named.partition);
    if (id.starts_with("*UDF Sparable Partition")) {
      partitions_.push_back(sparable(base, map));
    } else if (id.starts_with("*UDF Metadata Partition")) {
      partitions_.push_back(metadata(base, static_cast<std::uint16_t>(i), map));
    } else if (id.starts_with("*UDF Virtual Partition")) {
      partitions_.push_back(virtual_partition(base, static_cast<std::uint16_t>(i)));
    } else {
      throw Unsupported(fmt::format("UDF partitions of the kind \"{}\"", escape(until_zero(id))));
    }
  }
}

/// Packets that went bad are kept elsewhere: a table tells where (UDF 2.60, 2.2.12).
SourcePtr Volume::sparable(const SourcePtr& base, ByteView map) const {
  auto sparing = read_structure<SparableMap>(map.data());
  std::uint16_t number = read_field(&NamedMap::partition, map.data());
  std::uint64_t packet = sparing.packet * sector_;
  std::uint64_t start = 0;
  for (const PhysicalPartition& one : physical_) {
    if (one.number == number) start = one.start * sector_;
  }
  std::vector<std::pair<std::uint64_t, std::uint64_t>>
      moved;  // packet's place in the partition, its place in the image
  const std::uint32_t tables[] = {sparing.table_0, sparing.table_1, sparing.table_2, sparing.table_3};
  constexpr std::uint32_t kMostTable = 1 << 20, kUnused = 0xFFFFFFF0;  // bytes; rows from here on are free
  constexpr std::size_t kHead = size_on_disk<SparingHead>, kRow = size_on_disk<SparingRow>;
  for (unsigned i = 0; i < std::min<std::size_t>(sparing.tables, std::size(tables)) && moved.empty(); ++i) {
    Bytes raw = read_up_to(*meta_, tables[i] * sector_, std::min(sparing.table_size, kMostTable));
    if (!has_tag(raw, 0) || raw.size() < kHead) continue;
    std::size_t rows =
        std::min<std::size_t>(read_structure<SparingHead>(raw.data()).rows, (raw.size() - kHead) / kRow);
    for (std::size_t k = 0; k < rows; ++k) {
      auto row = read_structure<SparingRow>(raw.data() + kHead + k * kRow);
      if (row.original < kUnused) moved.emplace_back(row.original * sector_, row.mapped * sector_);
    }
  }
  if (moved.empty() || packet == 0) return base;
  std::sort(moved.begin(), moved.end());
  std::vector<Extent> extents;
  std::uint64_t at = 0;
  for (auto [from, to] : moved) {
    if (from < at || from + packet > base->size()) continue;
    if (from > at) extents.push_back({at, start + at, from - at});
    extents.push_back({from, to, packet});
    at = from + packet;
  }
  if (at < base->size()) extents.push_back({at, start + at, base->size() - at});
  return make_extent_source(image_, std::move(extents), base->size());
}

/// Folders and file entries are kept in a file of their own, which has a mirror (UDF 2.60, 2.2.13).
SourcePtr Volume::metadata(const SourcePtr& base, std::uint16_t index, ByteView map) {
  auto places = read_structure<MetadataMap>(map.data());
  for (std::uint32_t block : {places.file, places.mirror}) {
    bool last = block == places.mirror;
    try {
      FileEntry file = parse_entry(read_exactly(*base, block * block_size_, block_size_, "UDF metadata file"),
                                   {block, index});
      partitions_.push_back(base);  // its extents count in the partition beneath
      SourcePtr source = data(file);
      partitions_.pop_back();
      if (last && block != places.file)
        report_(Finding::Level::warning, "the metadata file is damaged; its mirror was used");
      return source;
    } catch (const Malformed&) {
      if (partitions_.size() > index) partitions_.resize(index);
      if (last) throw;
    }
  }
  return base;
}

/// The allocation table is the last thing written (UDF 2.60, 2.2.11).
SourcePtr Volume::virtual_partition(const SourcePtr& base, std::uint16_t index) {
  constexpr std::uint64_t kSearch = 512;
  std::uint64_t last = std::min(base->size(), image_->size()) / block_size_;
  for (std::uint64_t back = 1; back <= std::min(kSearch, last); ++back) {
    auto block = static_cast<std::uint32_t>(last - back);
    Bytes raw = read_up_to(*base, block * block_size_, block_size_);
    if (!has_tag(raw, file_entry_tag) && !has_tag(raw, extended_file_entry_tag)) continue;
    FileEntry file = parse_entry(raw, {block, index});
    constexpr std::uint8_t kTable = 248;
    if (file.type != kTable && file.type != 0) continue;
    partitions_.push_back(base);
    Bytes table = read_up_to(*data(file), 0, std::min<std::uint64_t>(file.size, 64 << 20));
    partitions_.pop_back();
    std::size_t begin = 0, end = table.size();
    if (file.type == kTable && table.size() >= 2) {
      begin = load_little<std::uint16_t>(table.data());
    } else if (table.size() >= 36) {
      end -= 36;  // the older form ends with its identifier
    }
    std::vector<std::uint32_t> blocks;
    for (std::size_t at = begin; at + 4 <= end; at += 4)
      blocks.push_back(load_little<std::uint32_t>(table.data() + at));
    return std::make_shared<VirtualSource>(base, std::move(blocks), block_size_);
  }
  throw Malformed("UDF: the virtual allocation table is missing at the end; the image may be cut short");
}

}  // namespace operculum::udf
