#include "format/filesystem/iso_record_reader.h"

#include <fmt/format.h>

#include "base/structure_fields.h"
#include "base/text.h"
#include "format/filesystem/iso_records.h"

namespace operculum::iso {
namespace {

constexpr std::size_t kFixed = size_on_disk<FolderRecord>;  // bytes of a record before its name
constexpr unsigned kMostContinuations = 100;
constexpr std::uint64_t kLongestContinuation = 32 << 10;

Timestamp from_parts(int year, int month, int day, int hour, int minute, int second, int zone) {
  Timestamp time = from_calendar(year, month, day, hour, minute, second);
  if (time.known()) time.seconds -= std::int64_t{zone} * 900;  // zone: quarters of an hour from UTC
  return time;
}

/// The components of a symbolic link, which may go on in the next field.
void add_target(const LittleFields& f, std::string& target) {
  constexpr std::size_t head_size = size_on_disk<Component>;
  for (std::size_t at = flagged_size; at + head_size <= f.size();) {
    auto part = structure_at<Component>(f, at);
    at += head_size;
    if (part.length > f.size() - at) return;
    if (!target.empty() && target.back() != '/' && target.back() != '\0') target += '/';
    if (!target.empty() && target.back() == '\0') target.pop_back();
    if ((part.flags & part_root) != 0) target = "/";
    if ((part.flags & part_current) != 0) target += ".";
    if ((part.flags & part_parent) != 0) target += "..";
    target += f.text(at, part.length);
    if ((part.flags & part_goes_on) != 0) target += '\0';  // the component itself goes on
    at += part.length;
  }
}

void add_times(const LittleFields& f, RockRidge& out) {
  std::uint8_t flags = structure_at<Flagged>(f, 0).flags;
  bool is_long = (flags & time_long_form) != 0;
  std::size_t width = is_long ? sizeof VolumeDescriptor::created : sizeof FolderRecord::date,
              at = flagged_size;
  Timestamp* const times[] = {&out.created, &out.modified, &out.accessed, &out.changed};
  for (unsigned bit = 0; bit < 7; ++bit) {
    if ((flags & (1U << bit)) == 0) continue;
    if (at + width > f.size()) return;
    if (bit < std::size(times))
      *times[bit] = is_long ? long_date(f.bytes(at, width)) : short_date(f.bytes(at, width));
    at += width;
  }
}

void add_attributes(const LittleFields& f, RockRidge& out) {
  auto px = structure_at<PosixAttributes>(f, 0);
  out.any = true;
  out.mode = px.mode;
  out.links = px.links;
  out.uid = px.uid;
  out.gid = px.gid;
  if (f.size() >= size_on_disk<PosixSerial>) out.inode = structure_at<PosixSerial>(f, 0).serial;
}

/// Where there is no high half, the low one has both numbers.
void add_device(const LittleFields& f, RockRidge& out) {
  auto [high, low] = structure_at<DeviceNumber>(f, 0);
  out.device_major = high != 0 ? high : (low >> 8) & 0xFF;
  out.device_minor = high != 0 ? low : low & 0xFF;
}

void add_name(const LittleFields& f, RockRidge& out) {
  out.any = true;
  if ((structure_at<Flagged>(f, 0).flags & (part_current | part_parent)) == 0)
    out.name = out.name.value_or("") + std::string(f.text(flagged_size, f.size() - flagged_size));
}

void add_hole(const LittleFields& f, RockRidge& out) {
  auto sparse = structure_at<SparseFile>(f, 0);
  out.virtual_size = std::uint64_t{sparse.high} << 32 | sparse.low;
  out.table_depth = sparse.depth;
}

void add_packing(const LittleFields& f, RockRidge& out) {
  auto packed = structure_at<PackedFile>(f, 0);
  if (as_text(packed.algorithm) != "pz") return;
  out.zisofs = true;
  out.unpacked_size = packed.size;
}

/// The fields that are known; one that is shorter than its structure is passed over.
struct KnownField {
  std::string_view signature;
  std::size_t least_size;
  void (*take)(const LittleFields& f, RockRidge& out);
};
constexpr KnownField kKnownFields[] = {
    {"PX", size_on_disk<PosixAttributes>, add_attributes},
    {"PN", size_on_disk<DeviceNumber>, add_device},
    {"NM", flagged_size, add_name},
    {"SL", flagged_size, [](const LittleFields& f, RockRidge& out) { add_target(f, out.target); }},
    {"TF", flagged_size, add_times},
    {"CL", size_on_disk<ChildLink>,
     [](const LittleFields& f, RockRidge& out) { out.child = structure_at<ChildLink>(f, 0).place; }},
    {"RE", use_head_size, [](const LittleFields&, RockRidge& out) { out.relocated = true; }},
    {"SF", size_on_disk<SparseFile>, add_hole},
    {"ZF", size_on_disk<PackedFile>, add_packing},
};

std::string_view signature_of(ByteView field) {
  return as_text(field.first(sizeof SystemUse::signature));
}

void take_field(ByteView field, RockRidge& out) {
  for (const KnownField& known : kKnownFields) {
    if (signature_of(field) == known.signature && field.size() >= known.least_size)
      return known.take(LittleFields(field, "Rock Ridge field"), out);
  }
}

}  // namespace

Timestamp short_date(ByteView raw) {
  if (raw[1] == 0) return {};
  return from_parts(1900 + raw[0], raw[1], raw[2], raw[3], raw[4], raw[5], static_cast<std::int8_t>(raw[6]));
}

Timestamp long_date(ByteView raw) {
  auto number = [&](std::size_t at, std::size_t count) {
    return static_cast<int>(parse_number(as_text(raw).substr(at, count)).value_or(0));
  };
  if (number(0, 4) == 0) return {};
  return from_parts(number(0, 4), number(4, 2), number(6, 2), number(8, 2), number(10, 2), number(12, 2),
                    static_cast<std::int8_t>(raw[16]));
}

Record RecordReader::read(ByteView raw, bool with_ridge) const {
  LittleFields f(raw, "ISO 9660 folder record");
  auto record = structure_at<FolderRecord>(f, 0);
  if (record.length < kFixed + record.name_length || record.length > raw.size())
    throw Malformed(
        fmt::format("ISO 9660 folder record: a length of {} bytes is not possible", record.length));
  Record r;
  r.extent = std::uint64_t{record.extent} + record.attribute_length;  // what has attributes begins with them
  r.size = record.data_length;
  r.modified = short_date(record.date);
  r.flags = record.flags;
  r.unit = record.unit_size;
  ByteView name = f.bytes(kFixed, record.name_length);
  r.raw_name.assign(name.begin(), name.end());
  if (!with_ridge) return r;
  each_field(area_of(raw), [&](ByteView field) { take_field(field, r.ridge); });
  while (r.ridge.target.ends_with('\0')) r.ridge.target.pop_back();
  return r;
}

ByteView RecordReader::area_of(ByteView raw) const {
  std::size_t length = raw[0], name_length = raw[kFixed - 1];
  std::size_t area = kFixed + name_length + (name_length % 2 == 0 ? 1 : 0) + skip_;
  return area < length ? raw.subspan(area, length - area) : ByteView();
}

ByteView RecordReader::foreign(ByteView raw) const {
  std::size_t length = raw[0], name_length = raw[kFixed - 1];
  std::size_t area = std::min(kFixed + name_length + (name_length % 2 == 0 ? 1 : 0), length);
  return raw.subspan(area, std::min(skip_, length - area));
}

std::vector<Bytes> RecordReader::fields(ByteView raw) const {
  std::vector<Bytes> out;
  each_field(area_of(raw), [&](ByteView field) { out.emplace_back(field.begin(), field.end()); });
  return out;
}

bool RecordReader::find_protocol(ByteView own_record) {
  if (own_record.size() < kFixed + 1 || own_record[0] > own_record.size()) return false;
  ByteView area =
      own_record.subspan(kFixed + 1, own_record[0] - std::min<std::size_t>(own_record[0], kFixed + 1));
  for (std::size_t before : {0, 14}) {  // 14 bytes of the extended architecture may come first
    if (area.size() < before + size_on_disk<SharingProtocol>) continue;
    const Byte* field = area.data() + before;
    auto protocol = read_structure<SharingProtocol>(field);
    if (signature_of(area.subspan(before)) == "SP" &&
        read_structure<SystemUse>(field).length >= size_on_disk<SharingProtocol> &&
        protocol.check == kCheckBytes) {
      skip_ = protocol.skipped;
      return true;
    }
  }
  return false;
}

void RecordReader::each_field(ByteView area, const TakeField& take) const {
  Bytes continuation;
  for (unsigned continued = 0;; ++continued) {
    if (continued > kMostContinuations) throw Malformed("Rock Ridge: the continuation areas form a loop");
    std::optional<std::pair<std::uint64_t, std::uint64_t>> more;  // place and length of the rest
    for (std::size_t at = 0; at + use_head_size <= area.size();) {
      std::size_t length = read_structure<SystemUse>(area.data() + at).length;
      if (length < use_head_size || at + length > area.size()) break;  // padding
      ByteView field = area.subspan(at, length);
      at += length;
      if (signature_of(field) == "ST") break;
      if (signature_of(field) == "CE" && length >= size_on_disk<Continuation>) {
        auto next = read_structure<Continuation>(field.data());
        more = {next.block * block_ + next.offset, next.length};
      } else {
        take(field);
      }
    }
    if (!more) return;
    continuation = read_exactly(*image_, more->first, std::min(more->second, kLongestContinuation),
                                "Rock Ridge continuation area");
    area = continuation;
  }
}

}  // namespace operculum::iso
