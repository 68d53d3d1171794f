#include "format/filesystem/udf_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "io/cached_source.h"
#include "io/mapped_source.h"

namespace operculum::udf {
namespace {

constexpr std::uint64_t kAnchorSector = 256;
constexpr unsigned kMostDescriptors = 256, kMostMaps = 16, kMostContinuations = 10000;
constexpr std::uint32_t kLengthMask = 0x3FFFFFFF;

/// CRC-16 of ITU-T V.41, start 0 (ECMA-167, 3/7.2.6).
std::uint16_t crc16(ByteView bytes) {
  std::uint16_t sum = 0;
  for (Byte b : bytes) {
    sum = static_cast<std::uint16_t>(sum ^ (b << 8));
    for (int i = 0; i < 8; ++i)
      sum = static_cast<std::uint16_t>((sum & 0x8000) != 0 ? (sum << 1) ^ 0x1021 : sum << 1);
  }
  return sum;
}

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

/// One run of a file's allocation descriptors.
struct Run {
  std::uint64_t length = 0;
  Address at;
  bool hole = false;
};

}  // namespace

bool has_tag(ByteView raw, std::uint16_t tag) {
  if (raw.size() < 16) return false;
  LittleFields f(raw, "UDF tag");
  std::uint8_t sum = 0;
  for (std::size_t i = 0; i < 16; ++i) sum = static_cast<std::uint8_t>(sum + (i == 4 ? 0 : raw[i]));
  std::size_t length = f.u16(10);
  return f.u16(0) == tag && f.u8(4) == sum && 16 + length <= raw.size() &&
         (length == 0 || crc16(raw.subspan(16, length)) == f.u16(8));
}

std::string unicode_of(ByteView raw) {
  if (raw.empty()) return "";
  std::string_view text = as_text(raw.subspan(1));
  bool wide = raw[0] == 16 || raw[0] == 255;
  if (!wide && raw[0] != 8 && raw[0] != 254) return to_hex(raw);
  return to_utf8(text, wide ? "UTF-16BE" : "ISO-8859-1").value_or("_");
}

namespace {
/// A string in a field of fixed size, whose last byte tells the length.
std::string fixed_string(ByteView raw) {
  std::size_t length = raw.back();
  return length == 0 || length >= raw.size() ? "" : unicode_of(raw.first(length));
}
}  // namespace

Timestamp time_of(ByteView raw) {
  LittleFields f(raw, "UDF time");
  Timestamp time =
      from_calendar(static_cast<std::int16_t>(f.u16(2)), f.u8(4), f.u8(5), f.u8(6), f.u8(7), f.u8(8));
  if (!time.known()) return time;
  int zone = f.u16(0) & 0xFFF;
  if (zone >= 0x800) zone -= 0x1000;
  bool zoned = zone >= -1440 && zone <= 1440;
  std::uint32_t nanoseconds = (f.u8(9) * 10000U + f.u8(10) * 100U + f.u8(11)) * 1000U;
  if (zoned) time.seconds -= zone * 60;
  time.nanoseconds = nanoseconds < 1'000'000'000 ? nanoseconds : 0;
  time.floating = !zoned;
  return time;
}

Volume::Volume(SourcePtr image, std::function<void(Finding::Level, std::string)> report)
    : image_(std::move(image)), meta_(make_cached(image_)), report_(std::move(report)) {
  find_anchor();
  if (!read_sequence(main_)) {
    physical_.clear();
    if (!read_sequence(reserve_))
      throw Malformed("UDF: there is no logical volume in the volume descriptors");
    report_(Finding::Level::warning, "the main volume descriptors are damaged; the reserve was used");
  }
  take_logical_volume(logical_volume_);
  open_maps();
  Bytes raw = read_exactly(*partition(file_set_.partition), file_set_.block * block_size_, block_size_,
                           "UDF file set descriptor");
  if (!has_tag(raw, kFileSet)) throw Malformed("UDF: the file set descriptor is missing or damaged");
  LittleFields f(raw, "UDF file set descriptor");
  root_ = {f.u32(404), f.u16(408)};
  if (integrity_.length > 0) read_integrity(integrity_);
}

/// The anchor lies at sector 256, at the last one, or 256 before it; only finding it tells the sector's size.
void Volume::find_anchor() {
  for (std::uint64_t sector : {2048, 512, 4096, 1024}) {
    std::uint64_t sectors = image_->size() / sector;
    for (std::uint64_t at : {kAnchorSector, sectors - 1, sectors - 1 - kAnchorSector, std::uint64_t{512}}) {
      if (at == 0 || at >= sectors) continue;
      Bytes raw = read_up_to(*meta_, at * sector, 512);
      if (!has_tag(raw, kAnchor) || load_little<std::uint32_t>(raw.data() + 12) != at) continue;
      LittleFields f(raw, "UDF anchor");
      sector_ = sector;
      main_ = {f.u32(20), f.u32(16)};
      reserve_ = {f.u32(28), f.u32(24)};
      if (at != kAnchorSector)
        report_(Finding::Level::note, "the first anchor is missing; the one at the end was used");
      return;
    }
  }
  throw Malformed("UDF: there is no anchor volume descriptor");
}

bool Volume::read_sequence(Extent32 extent) {
  logical_volume_.clear();
  std::uint64_t count = std::min<std::uint64_t>(extent.length / sector_, kMostDescriptors);
  for (std::uint64_t i = 0; i < count; ++i) {
    Bytes raw = read_up_to(*meta_, (extent.block + i) * sector_, sector_);
    if (raw.size() < 512) break;
    LittleFields f(raw, "UDF volume descriptor", (extent.block + i) * sector_);
    if (has_tag(raw, kTerminator)) break;
    if (has_tag(raw, kPartition)) physical_.push_back({f.u16(22), f.u32(188), f.u32(192)});
    if (has_tag(raw, kLogicalVolume)) logical_volume_ = raw;
  }
  return !logical_volume_.empty() && !physical_.empty();
}

void Volume::take_logical_volume(ByteView raw) {
  LittleFields f(raw, "UDF logical volume descriptor");
  label = fixed_string(f.bytes(84, 128));
  block_size_ = f.u32(212);
  if (block_size_ < 512 || block_size_ > 65536 || (block_size_ & (block_size_ - 1)) != 0)
    throw Malformed(fmt::format("UDF: a block size of {} bytes is not possible", block_size_));
  std::uint16_t version = f.u16(240);
  revision = fmt::format("{:x}.{:02x}", version >> 8, version & 0xFF);
  file_set_ = {f.u32(252), f.u16(256)};
  integrity_ = {f.u32(436), f.u32(432)};
}

SourcePtr Volume::physical(std::uint16_t number) const {
  auto found = std::find_if(physical_.begin(), physical_.end(),
                            [&](const PhysicalPartition& one) { return one.number == number; });
  if (found == physical_.end()) throw Malformed(fmt::format("UDF: partition {} is not described", number));
  return make_slice(image_, found->start * sector_, found->length * sector_);
}

SourcePtr Volume::partition(std::uint16_t index) const {
  if (index >= partitions_.size() || !partitions_[index])
    throw Malformed(fmt::format("UDF: there is no partition map {}", index));
  return partitions_[index];
}

void Volume::open_maps() {
  LittleFields f(logical_volume_, "UDF logical volume descriptor");
  std::uint32_t count = std::min<std::uint32_t>(f.u32(268), kMostMaps);
  for (std::size_t at = 440, i = 0; i < count; ++i) {
    std::uint8_t type = f.u8(at);
    std::size_t length = f.u8(at + 1);
    ByteView map = f.bytes(at, std::max<std::size_t>(length, 6));
    LittleFields m(map, "UDF partition map");
    at += std::max<std::size_t>(length, 6);
    if (type == 1) {
      partitions_.push_back(physical(m.u16(4)));
      continue;
    }
    if (type != 2 || length < 64) throw Unsupported(fmt::format("UDF partition maps of type {}", type));
    std::string_view id = m.text(5, 23);
    SourcePtr base = physical(m.u16(38));
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
  LittleFields m(map, "UDF sparable partition map");
  std::uint64_t packet = m.u16(40) * sector_;
  std::uint64_t start = 0;
  for (const PhysicalPartition& one : physical_) {
    if (one.number == m.u16(38)) start = one.start * sector_;
  }
  std::vector<std::pair<std::uint64_t, std::uint64_t>>
      moved;  // packet's place in the partition, its place in the image
  for (unsigned i = 0; i < std::min<unsigned>(m.u8(42), 4) && moved.empty(); ++i) {
    Bytes raw = read_up_to(*meta_, m.u32(48 + i * 4) * sector_, std::min<std::uint64_t>(m.u32(44), 1 << 20));
    if (!has_tag(raw, 0) || raw.size() < 56) continue;
    LittleFields t(raw, "UDF sparing table");
    for (std::size_t k = 0; k < t.u16(48) && 56 + k * 8 + 8 <= raw.size(); ++k) {
      std::uint32_t original = t.u32(56 + k * 8);
      if (original < 0xFFFFFFF0) moved.emplace_back(original * sector_, t.u32(60 + k * 8) * sector_);
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
  LittleFields m(map, "UDF metadata partition map");
  for (std::size_t field : {40, 44}) {
    try {
      std::uint32_t block = m.u32(field);
      FileEntry file = parse_entry(read_exactly(*base, block * block_size_, block_size_, "UDF metadata file"),
                                   {block, index});
      partitions_.push_back(base);  // its extents count in the partition beneath
      SourcePtr source = data(file);
      partitions_.pop_back();
      if (field == 44) report_(Finding::Level::warning, "the metadata file is damaged; its mirror was used");
      return source;
    } catch (const Malformed&) {
      if (partitions_.size() > index) partitions_.resize(index);
      if (field == 44) throw;
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
    if (!has_tag(raw, kFileEntry) && !has_tag(raw, kExtendedFileEntry)) continue;
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

void Volume::read_integrity(Extent32 extent) {
  Bytes raw = read_up_to(*meta_, extent.block * sector_, sector_);
  if (!has_tag(raw, kIntegrity)) return;
  LittleFields f(raw, "UDF integrity descriptor");
  recorded = time_of(f.bytes(16, 12));
  if (f.u32(28) == 0)
    report_(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
  std::uint32_t count = std::min<std::uint32_t>(f.u32(72), kMostMaps);
  for (std::uint32_t i = 0; i < count && 80 + (count + i) * 4 + 4 <= raw.size(); ++i) {
    if (f.u32(80 + i * 4) == 0xFFFFFFFF) continue;
    free_blocks += f.u32(80 + i * 4);
    total_blocks += f.u32(80 + (count + i) * 4);
  }
}

FileEntry Volume::entry(Address at) const {
  Bytes raw = read_exactly(*partition(at.partition), at.block * block_size_, block_size_, "UDF file entry");
  return parse_entry(raw, at);
}

FileEntry Volume::parse_entry(ByteView raw, Address at) const {
  bool extended = has_tag(raw, kExtendedFileEntry);
  if (!extended && !has_tag(raw, kFileEntry))
    throw Malformed(
        fmt::format("UDF block {}: expected a file entry, found something else or damage", at.block));
  LittleFields f(raw, "UDF file entry", at.block * block_size_);
  FileEntry e;
  e.at = at;
  e.type = f.u8(27);
  e.flags = f.u16(34);
  e.uid = f.u32(36);
  e.gid = f.u32(40);
  e.permissions = f.u32(44);
  e.links = f.u16(48);
  e.size = f.u64(56);
  std::size_t shift = extended ? 8 : 0;
  e.blocks = f.u64(64 + shift);
  e.accessed = time_of(f.bytes(72 + shift, 12));
  e.modified = time_of(f.bytes(84 + shift, 12));
  if (extended) e.created = time_of(f.bytes(104, 12));
  e.changed = time_of(f.bytes(extended ? 116 : 96, 12));
  std::size_t lengths = extended ? 208 : 168, body = lengths + 8;
  std::size_t attributes = f.u32(lengths), allocation = f.u32(lengths + 4);
  ByteView data = f.bytes(body + std::min<std::size_t>(attributes, raw.size()), allocation);
  e.allocation.assign(data.begin(), data.end());
  for (std::size_t place = 24;
       place + 24 <= attributes && body + place + 24 <= raw.size();) {  // behind the header's own tag
    LittleFields a = f.from(body + place);
    std::size_t length = a.u32(8);
    constexpr std::uint32_t kDevice = 12;
    if (a.u32(0) == kDevice) {
      e.device_major = a.u32(16);
      e.device_minor = a.u32(20);
    }
    if (length < 12) break;
    place += length;
  }
  return e;
}

SourcePtr Volume::data(const FileEntry& entry) const {
  if (entry.embedded()) {
    Bytes kept = entry.allocation;
    if (entry.size > kept.size())
      throw Malformed(fmt::format("UDF block {}: {} bytes are kept in the entry, its size says {}",
                                  entry.at.block, kept.size(), entry.size));
    kept.resize(static_cast<std::size_t>(entry.size));
    return make_memory_source(std::move(kept));
  }
  unsigned kind = entry.flags & 7;
  if (kind > 1) throw Unsupported("UDF files with extended allocation descriptors");
  std::size_t width = kind == 0 ? 8 : 16;
  std::vector<Run> runs;
  Bytes table = entry.allocation;
  std::uint64_t done = 0;
  unsigned continuations = 0;
  for (std::size_t at = 0; at + width <= table.size() && done < entry.size;) {
    LittleFields f(ByteView(table).subspan(at, width), "UDF allocation descriptor");
    std::uint32_t length = f.u32(0) & kLengthMask, extent_kind = f.u32(0) >> 30;
    Address where{f.u32(4), kind == 0 ? entry.at.partition : f.u16(8)};
    if (length == 0) break;
    at += width;
    if (extent_kind == 3) {  // the descriptors go on elsewhere
      if (++continuations > kMostContinuations)
        throw Malformed(fmt::format("UDF block {}: the allocation descriptors form a loop", entry.at.block));
      Bytes next = read_exactly(*partition(where.partition), where.block * block_size_, block_size_,
                                "UDF allocation extent");
      if (!has_tag(next, kAllocationExtent))
        throw Malformed(fmt::format("UDF block {}: expected an allocation extent", where.block));
      std::size_t count =
          std::min<std::size_t>(load_little<std::uint32_t>(next.data() + 20), next.size() - 24);
      table.assign(next.begin() + 24, next.begin() + static_cast<std::ptrdiff_t>(24 + count));
      at = 0;
      continue;
    }
    std::uint64_t used = std::min<std::uint64_t>(length, entry.size - done);
    runs.push_back({used, where, extent_kind != 0});
    done += used;
  }
  std::vector<SourcePtr> parts;  // one for each stretch within one partition
  for (std::size_t i = 0; i < runs.size();) {
    std::vector<Extent> extents;
    std::uint64_t length = 0;
    std::uint16_t index = runs[i].at.partition;
    for (; i < runs.size() && (runs[i].hole || runs[i].at.partition == index); ++i) {
      if (!runs[i].hole) extents.push_back({length, runs[i].at.block * block_size_, runs[i].length});
      length += runs[i].length;
    }
    parts.push_back(make_extent_source(partition(index), std::move(extents), length));
  }
  if (parts.empty()) return make_memory_source({});
  return parts.size() == 1 ? parts[0] : make_joined(std::move(parts));
}

}  // namespace operculum::udf
