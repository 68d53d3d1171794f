#include "format/filesystem/iso_records.h"

#include <fmt/format.h>

#include "base/fields.h"
#include "base/text.h"

namespace operculum::iso {
namespace {

constexpr std::size_t kFixed = 33;  // bytes of a record before its name
constexpr unsigned kMostContinuations = 100;
constexpr std::uint64_t kLongestContinuation = 32 << 10;

Timestamp from_parts(int year, int month, int day, int hour, int minute, int second, int zone) {
  Timestamp time = from_calendar(year, month, day, hour, minute, second);
  if (time.known()) time.seconds -= std::int64_t{zone} * 900;  // zone: quarters of an hour from UTC
  return time;
}

/// The components of a symbolic link, which may go on in the next field.
void add_target(const LittleFields& f, std::size_t length, std::string& target) {
  enum : std::uint8_t { kGoesOn = 1, kCurrent = 2, kParent = 4, kRoot = 8 };
  for (std::size_t at = 5; at + 2 <= length;) {
    std::uint8_t flags = f.u8(at);
    std::size_t size = f.u8(at + 1);
    if (at + 2 + size > length) return;
    if (!target.empty() && target.back() != '/' && target.back() != '\0') target += '/';
    if (!target.empty() && target.back() == '\0') target.pop_back();
    if ((flags & kRoot) != 0) target = "/";
    if ((flags & kCurrent) != 0) target += ".";
    if ((flags & kParent) != 0) target += "..";
    target += f.text(at + 2, size);
    if ((flags & kGoesOn) != 0) target += '\0';  // the component itself goes on
    at += 2 + size;
  }
}

void add_times(const LittleFields& f, std::size_t length, RockRidge& out) {
  std::uint8_t flags = f.u8(4);
  bool is_long = (flags & 0x80) != 0;
  std::size_t width = is_long ? 17 : 7, at = 5;
  Timestamp* const times[] = {&out.created, &out.modified, &out.accessed, &out.changed};
  for (unsigned bit = 0; bit < 7; ++bit) {
    if ((flags & (1U << bit)) == 0) continue;
    if (at + width > length) return;
    if (bit < std::size(times))
      *times[bit] = is_long ? long_date(f.bytes(at, width)) : short_date(f.bytes(at, width));
    at += width;
  }
}

void take_field(ByteView field, RockRidge& out) {
  LittleFields f(field, "Rock Ridge field");
  std::string_view id = f.text(0, 2);
  std::size_t length = field.size();
  if (id == "PX" && length >= 36) {
    out.any = true;
    out.mode = f.u32(4);
    out.links = f.u32(12);
    out.uid = f.u32(20);
    out.gid = f.u32(28);
    if (length >= 44) out.inode = f.u32(36);
  } else if (id == "PN" && length >= 20) {
    std::uint32_t high = f.u32(4), low = f.u32(12);
    out.device_major = high != 0 ? high : (low >> 8) & 0xFF;
    out.device_minor = high != 0 ? low : low & 0xFF;
  } else if (id == "NM" && length >= 5) {
    out.any = true;
    if ((f.u8(4) & 6) == 0) out.name = out.name.value_or("") + std::string(f.text(5, length - 5));
  } else if (id == "SL" && length >= 5) {
    add_target(f, length, out.target);
  } else if (id == "TF" && length >= 5) {
    add_times(f, length, out);
  } else if (id == "CL" && length >= 12) {
    out.child = f.u32(4);
  } else if (id == "RE") {
    out.relocated = true;
  } else if (id == "SF" && length >= 21) {
    out.virtual_size = (std::uint64_t{f.u32(4)} << 32) | f.u32(12);
    out.table_depth = f.u8(20);
  } else if (id == "ZF" && length >= 16 && f.text(4, 2) == "pz") {
    out.zisofs = true;
    out.unpacked_size = f.u32(8);
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
  std::size_t length = f.u8(0), name_length = f.u8(32);
  if (length < kFixed + name_length || length > raw.size())
    throw Malformed(fmt::format("ISO 9660 folder record: a length of {} bytes is not possible", length));
  Record r;
  r.extent = std::uint64_t{f.u32(2)} + f.u8(1);  // an extended attribute record comes before the data
  r.size = f.u32(10);
  r.modified = short_date(f.bytes(18, 7));
  r.flags = f.u8(25);
  r.unit = f.u8(26);
  ByteView name = f.bytes(kFixed, name_length);
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
    if (area.size() < before + 7) continue;
    LittleFields f(area.subspan(before), "SUSP");
    if (f.text(0, 2) == "SP" && f.u8(2) >= 7 && f.u8(4) == 0xBE && f.u8(5) == 0xEF) {
      skip_ = f.u8(6);
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
    for (std::size_t at = 0; at + 4 <= area.size();) {
      std::size_t length = area[at + 2];
      if (length < 4 || at + length > area.size()) break;  // padding
      LittleFields f(area.subspan(at, length), "Rock Ridge field");
      at += length;
      if (f.text(0, 2) == "ST") break;
      if (f.text(0, 2) == "CE" && length >= 28) {
        more = {f.u32(4) * block_ + f.u32(12), f.u32(20)};
      } else {
        take(f.all());
      }
    }
    if (!more) return;
    continuation = read_exactly(*image_, more->first, std::min(more->second, kLongestContinuation),
                                "Rock Ridge continuation area");
    area = continuation;
  }
}

}  // namespace operculum::iso
