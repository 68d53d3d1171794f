#include "format/filesystem/udf_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "io/cached_source.h"

namespace operculum::udf {
namespace {

constexpr std::uint64_t kAnchorSector = 256;
constexpr unsigned kMostDescriptors = 256;
constexpr std::size_t kLeastSector = 512;

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

}  // namespace

bool has_tag(ByteView raw, std::uint16_t tag) {
  if (raw.size() < kTagSize) return false;
  auto record = read_structure<TagRecord>(raw.data());
  constexpr std::size_t kSumAt = place_of(&TagRecord::checksum).at;
  std::uint8_t sum = 0;
  for (std::size_t i = 0; i < kTagSize; ++i)
    sum = static_cast<std::uint8_t>(sum + (i == kSumAt ? 0 : raw[i]));
  std::size_t length = record.crc_length;
  return record.identifier == tag && record.checksum == sum && kTagSize + length <= raw.size() &&
         (length == 0 || crc16(raw.subspan(kTagSize, length)) == record.crc);
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

Timestamp time_of(const TimeField& raw) {
  auto t = read_structure<TimeRecord>(raw.data());
  Timestamp time =
      from_calendar(static_cast<std::int16_t>(t.year), t.month, t.day, t.hour, t.minute, t.second);
  if (!time.known()) return time;
  int zone = t.type_and_zone & 0xFFF;
  if (zone >= 0x800) zone -= 0x1000;
  bool zoned = zone >= -1440 && zone <= 1440;
  std::uint32_t nanoseconds =
      (t.centiseconds * 10000U + t.hundreds_of_microseconds * 100U + t.microseconds) * 1000U;
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
  if (!has_tag(raw, file_set_tag)) throw Malformed("UDF: the file set descriptor is missing or damaged");
  auto file_set = read_structure<FileSetRecord>(raw.data());
  root_ = {file_set.root_block, file_set.root_partition};
  if (integrity_.length > 0) read_integrity(integrity_);
}

/// The anchor lies at sector 256, at the last one, or 256 before it; only finding it tells the sector's size.
void Volume::find_anchor() {
  for (std::uint64_t sector : {2048, 512, 4096, 1024}) {
    std::uint64_t sectors = image_->size() / sector;
    for (std::uint64_t at : {kAnchorSector, sectors - 1, sectors - 1 - kAnchorSector, std::uint64_t{512}}) {
      if (at == 0 || at >= sectors) continue;
      Bytes raw = read_up_to(*meta_, at * sector, 512);
      if (!has_tag(raw, anchor_tag) || read_field(&TagRecord::location, raw.data()) != at) continue;
      auto anchor = read_structure<AnchorRecord>(raw.data());
      sector_ = sector;
      main_ = {anchor.main_location, anchor.main_length};
      reserve_ = {anchor.reserve_location, anchor.reserve_length};
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
    if (raw.size() < kLeastSector) break;
    if (has_tag(raw, terminator_tag)) break;
    if (has_tag(raw, partition_tag)) {
      auto record = read_structure<PartitionRecord>(raw.data());
      physical_.push_back({record.number, record.start, record.length});
    }
    if (has_tag(raw, logical_volume_tag)) logical_volume_ = raw;
  }
  return !logical_volume_.empty() && !physical_.empty();
}

void Volume::take_logical_volume(ByteView raw) {
  auto record = read_structure<LogicalVolumeRecord>(raw.data());
  label = fixed_string(record.identifier);
  block_size_ = record.block_size;
  if (block_size_ < kLeastSector || block_size_ > 65536 || (block_size_ & (block_size_ - 1)) != 0)
    throw Malformed(fmt::format("UDF: a block size of {} bytes is not possible", block_size_));
  revision = fmt::format("{:x}.{:02x}", record.revision >> 8, record.revision & 0xFF);
  file_set_ = {record.file_set_block, record.file_set_partition};
  integrity_ = {record.integrity_location, record.integrity_length};
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

void Volume::read_integrity(Extent32 extent) {
  Bytes raw = read_up_to(*meta_, extent.block * sector_, sector_);
  if (raw.size() < kLeastSector || !has_tag(raw, integrity_tag)) return;
  auto record = read_structure<IntegrityRecord>(raw.data());
  recorded = time_of(record.recorded);
  if (record.type == 0)
    report_(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
  std::uint32_t count = std::min<std::uint32_t>(record.partitions, kMostMaps);
  LittleFields counts(ByteView(raw).subspan(size_on_disk<IntegrityRecord>), "UDF integrity descriptor");
  constexpr std::uint32_t kNotTold = 0xFFFFFFFF;
  for (std::uint32_t i = 0; i < count && (count + i + 1) * std::size_t{4} <= counts.size(); ++i) {
    std::uint32_t free = counts.u32(i * std::size_t{4});
    if (free == kNotTold) continue;
    free_blocks += free;
    total_blocks += counts.u32((count + i) * std::size_t{4});
  }
}

}  // namespace operculum::udf
