#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/cursor.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/volume/ldm.h"

namespace operculum::ldm {
namespace {

constexpr std::uint64_t kHeadAt = 6 * kSector;
constexpr std::string_view kDiskMark = "PRIVHEAD", kContentsMark = "TOCBLOCK", kDatabaseMark = "VMDB",
                           kRecordMark = "VBLK";

struct PrivateHead {
  std::array<Byte, 8> magic{};
  std::uint16_t ver_major = 0, ver_minor = 0;
  std::array<Byte, 64> disk_id{}, disk_group_id{};
  std::array<Byte, 31> disk_group_name{};
  std::uint64_t logical_disk_start = 0, logical_disk_size = 0, config_start = 0, config_size = 0;
  static constexpr auto layout = big_endian(
      field("magic", &PrivateHead::magic), from_byte<12>(), field("ver_major", &PrivateHead::ver_major),
      field("ver_minor", &PrivateHead::ver_minor), from_byte<48>(), field("disk_id", &PrivateHead::disk_id),
      from_byte<176>(), field("disk_group_id", &PrivateHead::disk_group_id),
      field("disk_group_name", &PrivateHead::disk_group_name), from_byte<283>(),
      field("logical_disk_start", &PrivateHead::logical_disk_start),
      field("logical_disk_size", &PrivateHead::logical_disk_size),
      field("config_start", &PrivateHead::config_start), field("config_size", &PrivateHead::config_size));
};

/// Which sectors of the configuration hold the database.
struct TableOfContents {
  std::array<Byte, 8> magic{}, bitmap1_name{};
  std::uint64_t bitmap1_start = 0, bitmap1_size = 0;
  static constexpr auto layout =
      big_endian(field("magic", &TableOfContents::magic), from_byte<36>(),
                 field("bitmap1_name", &TableOfContents::bitmap1_name), from_byte<46>(),
                 field("bitmap1_start", &TableOfContents::bitmap1_start),
                 field("bitmap1_size", &TableOfContents::bitmap1_size));
};

struct DatabaseHead {
  std::array<Byte, 4> magic{};
  std::uint32_t last_vblk_seq = 0, vblk_size = 0, vblk_offset = 0;
  std::uint16_t update_status = 0, ver_major = 0, ver_minor = 0;
  std::array<Byte, 31> disk_group_name{};
  std::array<Byte, 64> disk_group_guid{};
  std::uint64_t committed_seq = 0;
  static constexpr std::uint16_t consistent = 1;
  static constexpr auto layout = big_endian(
      field("magic", &DatabaseHead::magic), field("last_vblk_seq", &DatabaseHead::last_vblk_seq),
      field("vblk_size", &DatabaseHead::vblk_size), field("vblk_offset", &DatabaseHead::vblk_offset),
      field("update_status", &DatabaseHead::update_status), field("ver_major", &DatabaseHead::ver_major),
      field("ver_minor", &DatabaseHead::ver_minor), field("disk_group_name", &DatabaseHead::disk_group_name),
      from_byte<53>(), field("disk_group_guid", &DatabaseHead::disk_group_guid), from_byte<117>(),
      field("committed_seq", &DatabaseHead::committed_seq));
};

struct RecordHead {
  std::array<Byte, 4> magic{};
  std::uint32_t sequence = 0, group = 0;
  std::uint16_t number = 0, count = 0;
  static constexpr auto layout =
      big_endian(field("magic", &RecordHead::magic), field("sequence number", &RecordHead::sequence),
                 field("group number", &RecordHead::group), field("record number", &RecordHead::number),
                 field("number of records", &RecordHead::count));
};

/// What each joined record begins with.
struct ObjectHead {
  std::uint8_t flags = 0, type = 0;
  std::uint32_t size = 0;
  static constexpr auto layout =
      big_endian(from_byte<2>(), field("flags", &ObjectHead::flags), field("type", &ObjectHead::type),
                 field("size", &ObjectHead::size));
};
enum Type : std::uint8_t {
  component3_record = 0x32,
  partition3_record = 0x33,
  disk3_record = 0x34,
  disk4_record = 0x44,
  volume5_record = 0x51,
};

std::string text_of(ByteView field) {
  return std::string(until_zero(as_text(field)));
}

/// A number behind a byte that tells how many bytes it takes.
std::uint64_t number(Cursor& from) {
  std::size_t width = from.u8();
  if (width > sizeof(std::uint64_t))
    throw Malformed(fmt::format("LDM record: expected a number of at most 8 bytes, found one of {}", width));
  ByteView bytes = from.take(width);
  return load_number(bytes.data(), width, std::endian::big);
}
std::string text(Cursor& from) {
  ByteView bytes = from.take(from.u8());
  return std::string(as_text(bytes));
}
std::uint64_t bytes_of(std::uint64_t sectors) {
  return checked_mul(sectors, kSector, "a place in LDM's database");
}

void take_volume(Cursor& from, const ObjectHead& head, Database& out) {
  constexpr std::size_t kStateSize = 14, kBeforeChildren = 7, kBeforeSize = 16, kBeforeType = 4,
                        kTypeAndGuid = 17;
  enum Flag : std::uint8_t {
    hint_flag = 0x02,
    first_id_flag = 0x08,
    second_id_flag = 0x20,
    second_size_flag = 0x80
  };
  std::uint64_t id = number(from);
  Volume one;
  one.name = text(from);
  text(from);  // "gen", "raid5": its components tell that
  text(from);  // whether it gets a letter
  one.state = text_of(from.take(kStateSize));
  from.skip(kBeforeChildren);
  number(from);
  from.skip(kBeforeSize);
  one.size = bytes_of(number(from));
  from.skip(kBeforeType + kTypeAndGuid);
  for (Flag flag : {first_id_flag, second_id_flag})
    if ((head.flags & flag) != 0) text(from);
  if ((head.flags & second_size_flag) != 0) number(from);
  if ((head.flags & hint_flag) != 0) one.hint = text(from);
  out.volumes[id] = std::move(one);
}

void take_component(Cursor& from, const ObjectHead& head, Database& out) {
  constexpr std::size_t kBeforeChildren = 4, kBeforeParent = 16, kBeforeChunk = 1;
  constexpr std::uint8_t kHasColumns = 0x10;
  std::uint64_t id = number(from);
  Component one;
  one.name = text(from);
  text(from);  // its state
  std::uint8_t kind = from.u8();
  if (kind < 1 || kind > 3) throw Unsupported(fmt::format("dynamic volumes of kind {}", kind));
  one.kind = static_cast<Component::Kind>(kind);
  from.skip(kBeforeChildren);
  number(from);
  from.skip(kBeforeParent);
  one.volume = number(from);
  from.skip(kBeforeChunk);
  if ((head.flags & kHasColumns) != 0) {
    one.chunk = bytes_of(number(from));
    one.columns = number(from);
  }
  out.components[id] = std::move(one);
}

void take_partition(Cursor& from, const ObjectHead& head, Database& out) {
  constexpr std::size_t kBeforeStart = 12;
  constexpr std::uint8_t kHasColumn = 0x08;
  number(from);
  Partition one;
  one.name = text(from);
  from.skip(kBeforeStart);
  one.at = bytes_of(from.u64be());
  one.within = bytes_of(from.u64be());
  one.size = bytes_of(number(from));
  one.component = number(from);
  one.disk = number(from);
  if ((head.flags & kHasColumn) != 0) one.column = number(from);
  out.partitions.push_back(std::move(one));
}

void take_disk(Cursor& from, const ObjectHead& head, Database& out) {
  constexpr std::size_t kGuid = 16;
  std::uint64_t id = number(from);
  std::string name = text(from);
  // a GUID's bytes are in the order in which it is written, unlike in other tables
  std::string guid = head.type == disk4_record ? uuid_text(from.take(kGuid)) : text(from);
  out.disks[id] = {name, to_lower(guid)};
}

void take_record(ByteView record, Database& out) {
  if (record.size() < size_on_disk<ObjectHead>) return;
  auto head = read_structure<ObjectHead>(record.data());
  Cursor from(record.subspan(size_on_disk<ObjectHead>), "LDM record");
  switch (head.type) {
    case volume5_record:
      return take_volume(from, head, out);
    case component3_record:
      return take_component(from, head, out);
    case partition3_record:
      return take_partition(from, head, out);
    case disk3_record:
    case disk4_record:
      return take_disk(from, head, out);
    default:
      return;  // groups of disks, and what is not known, say nothing of where data lies
  }
}

/// Pieces of a record that is larger than one, by their numbers.
struct Pieces {
  std::size_t count = 0;
  std::map<std::uint16_t, ByteView> parts;
};

void take_records(ByteView area, const DatabaseHead& head, Database& out) {
  std::map<std::uint32_t, Pieces> groups;
  for (std::size_t at = 0; at + head.vblk_size <= area.size(); at += head.vblk_size) {
    ByteView whole = area.subspan(at, head.vblk_size);
    auto record = read_structure<RecordHead>(whole.data());
    if (as_text(record.magic) != kRecordMark || record.count == 0) continue;
    Pieces& pieces = groups[record.group];
    pieces.count = record.count;
    pieces.parts[record.number] = whole.subspan(size_on_disk<RecordHead>);
  }
  for (const auto& [group, pieces] : groups) {
    if (pieces.parts.size() < pieces.count) continue;  // what is left of an older one
    Bytes joined;
    for (const auto& [number, part] : pieces.parts) joined.insert(joined.end(), part.begin(), part.end());
    try {
      take_record(joined, out);
    } catch (const Malformed& error) {
      out.warnings.push_back(fmt::format("record {} of the database: {}", group, error.what()));
    }
  }
}

/// The tables of contents are at the second and third sector of the configuration, and at its end.
TableOfContents find_contents(const Source& file, const Disk& disk) {
  std::uint64_t sectors = disk.config_size / kSector;
  for (std::uint64_t sector : {std::uint64_t{1}, std::uint64_t{2}, sectors - 1, sectors - 2}) {
    if (sector >= sectors) continue;
    Bytes raw = read_up_to(file, disk.config_at + sector * kSector, size_on_disk<TableOfContents>);
    if (raw.size() < size_on_disk<TableOfContents>) continue;
    auto contents = read_structure<TableOfContents>(raw.data());
    if (as_text(contents.magic) == kContentsMark && text_of(contents.bitmap1_name) == "config")
      return contents;
  }
  throw Malformed(
      fmt::format("LDM: there is no table of contents in the configuration at offset {}", disk.config_at));
}

std::optional<Disk> disk_at(const ReadAt& read, std::uint64_t at) {
  Bytes raw = read(at, kSector);
  if (raw.size() < size_on_disk<PrivateHead> || !starts_with(raw, kDiskMark)) return std::nullopt;
  auto head = read_structure<PrivateHead>(raw.data());
  constexpr std::uint64_t kMost = UINT64_MAX / kSector / 4;
  if (head.config_size < 3 || std::max({head.logical_disk_start, head.logical_disk_size, head.config_start,
                                        head.config_size}) > kMost)
    return std::nullopt;
  return Disk{to_lower(text_of(head.disk_id)),  to_lower(text_of(head.disk_group_id)),
              text_of(head.disk_group_name),    head.logical_disk_start * kSector,
              head.logical_disk_size * kSector, head.config_start * kSector,
              head.config_size * kSector};
}

}  // namespace

std::optional<Disk> find_disk(const ReadAt& read) {
  if (auto found = disk_at(read, kHeadAt)) return found;
  // on a disk with GPT at the end of the partition that holds the database
  constexpr std::string_view kTableMark = "EFI PART", kType = "5808c8aa-7e8f-42e0-85d2-e1e90434cfb3";
  constexpr std::size_t kEntry = 128, kEntries = 128, kGuid = 16, kLastAt = 40;
  if (!starts_with(read(kSector, kTableMark.size()), kTableMark)) return std::nullopt;
  Bytes table = read(2 * kSector, kEntry * kEntries);
  for (std::size_t at = 0; at + kEntry <= table.size(); at += kEntry) {
    if (guid_text(ByteView(table).subspan(at, kGuid)) != kType) continue;
    auto last = load_little<std::uint64_t>(table.data() + at + kLastAt);
    if (last < UINT64_MAX / kSector) return disk_at(read, last * kSector);
  }
  return std::nullopt;
}

Database read_database(const Source& file, const Disk& disk) {
  constexpr std::uint64_t kLargest = 8 << 20;  // the makers give a megabyte
  constexpr std::uint32_t kLeastRecord = 32;
  TableOfContents contents = find_contents(file, disk);
  std::uint64_t sectors = disk.config_size / kSector;
  if (contents.bitmap1_start >= sectors)
    refuse_field("LDM table of contents", disk.config_at, &TableOfContents::bitmap1_start,
                 fmt::format("below {}", sectors), fmt::format("{}", contents.bitmap1_start));
  std::uint64_t at = disk.config_at + contents.bitmap1_start * kSector;
  auto head =
      read_structure<DatabaseHead>(read_exactly(file, at, size_on_disk<DatabaseHead>, "LDM database").data());
  if (as_text(head.magic) != kDatabaseMark)
    throw Malformed(fmt::format("LDM database at offset {}: the mark is missing", at));
  if (head.ver_major != 4)
    throw Unsupported(fmt::format("LDM databases of version {}.{}", head.ver_major, head.ver_minor));
  if (head.vblk_size < kLeastRecord || head.vblk_size > kLargest)
    refuse_field("LDM database", at, &DatabaseHead::vblk_size, "32 or more",
                 fmt::format("{}", head.vblk_size));
  Database out;
  out.group = text_of(head.disk_group_name);
  out.group_id = to_lower(text_of(head.disk_group_guid));
  out.sequence = head.committed_seq;
  out.clean = head.update_status == DatabaseHead::consistent;
  std::uint64_t room = std::min(disk.config_size - contents.bitmap1_start * kSector, kLargest);
  if (head.vblk_offset >= room)
    refuse_field("LDM database", at, &DatabaseHead::vblk_offset, fmt::format("below {}", room),
                 fmt::format("{}", head.vblk_offset));
  std::uint64_t wanted =
      std::min(std::uint64_t{head.last_vblk_seq} * head.vblk_size, room - head.vblk_offset);
  Bytes area = read_exactly(file, at + head.vblk_offset, wanted, "LDM database");
  take_records(area, head, out);
  return out;
}

KnownRecord known_head() {
  return record_at<PrivateHead>("private head", kHeadAt);
}

}  // namespace operculum::ldm
