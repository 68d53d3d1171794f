#include "format/volume/lvm_label.h"

#include <fmt/format.h>

#include "base/checksum.h"
#include "base/error.h"
#include "base/structure.h"
#include "container/record_fields.h"

namespace operculum::lvm {
namespace {

constexpr std::size_t kLabelSector = 512, kLabelSectors = 4, kIdSize = 32, kMostAreas = 64;
constexpr std::size_t kAreaHead = 512, kLocationsAt = 40;
constexpr std::uint64_t kLargestText = 16 << 20;  // bytes
constexpr std::string_view kLabelMark = "LABELONE", kAreaMark = " LVM2 x[5A%r0N*>";

/// struct label_header.
struct LabelHeader {
  std::array<Byte, 8> id = {}, type = {};
  std::uint64_t sector = 0;
  std::uint32_t crc = 0, offset = 0;
  static constexpr auto layout =
      little_endian(field("id", &LabelHeader::id), field("sector_xl", &LabelHeader::sector),
                    field("crc_xl", &LabelHeader::crc), field("offset_xl", &LabelHeader::offset),
                    field("type", &LabelHeader::type));
};

/// struct raw_locn.
struct Location {
  std::uint64_t offset = 0, size = 0;
  std::uint32_t checksum = 0, flags = 0;
  static constexpr auto layout =
      little_endian(field("offset", &Location::offset), field("size", &Location::size),
                    field("checksum", &Location::checksum), field("flags", &Location::flags));
};

/// CRC-32 with a start of its own, neither it nor the end inverted.
std::uint32_t sum_of(ByteView bytes) {
  constexpr std::uint32_t kStart = 0xF597A6CF;
  return crc32_plain(kStart, bytes);
}

/// "abcdef-0123-...": 6, 4, 4, 4, 4, 4 and 6 characters.
std::string with_dashes(std::string_view id) {
  std::string out(id);
  for (std::size_t at : {26, 22, 18, 14, 10, 6}) out.insert(at, "-");
  return out;
}

}  // namespace

std::optional<Label> find_label(const Read& read) {
  for (std::size_t sector = 0; sector < kLabelSectors; ++sector) {
    Bytes raw = read(sector * kLabelSector, kLabelSector);
    if (raw.size() < kLabelSector || !starts_with(raw, kLabelMark)) continue;
    LabelHeader head = read_structure<LabelHeader>(raw.data());
    constexpr std::size_t kSummedFrom = 20;
    if (head.sector != sector || as_text(head.type) != "LVM2 001" ||
        !sum_fits(sum_of(ByteView(raw).subspan(kSummedFrom)), head.crc))
      continue;
    Cursor cursor(ByteView(raw).subspan(std::min<std::size_t>(head.offset, raw.size())),
                  "LVM2 physical volume header");
    try {
      Label out;
      out.id = with_dashes(as_text(cursor.take(kIdSize)));
      cursor.u64le();  // the volume's size
      auto areas = [&] {
        std::vector<std::pair<std::uint64_t, std::uint64_t>> list;
        while (list.size() < kMostAreas) {
          std::uint64_t at = cursor.u64le(), size = cursor.u64le();
          if (at == 0) break;
          list.emplace_back(at, size);
        }
        return list;
      };
      areas();  // of data: the text tells where that is
      out.metadata = areas();
      return out;
    } catch (const Malformed&) {
      continue;
    }
  }
  return std::nullopt;
}

std::optional<std::string> read_metadata(const Source& volume, std::uint64_t at, std::uint64_t size) {
  Bytes head = read_exactly(volume, at, kAreaHead, "LVM2 metadata area");
  constexpr std::size_t kMarkAt = 4, kSumSize = 4;
  if (!starts_with(ByteView(head).subspan(kMarkAt), kAreaMark))
    throw Malformed(fmt::format("LVM2 metadata area at offset {}: the mark is missing", at));
  Cursor cursor(head, "LVM2 metadata area", at);
  if (std::uint32_t own = sum_of(ByteView(head).subspan(kSumSize)), stored = cursor.u32le();
      !sum_fits(own, stored))
    throw Malformed(fmt::format("LVM2 metadata area at offset {}: expected checksum {:#x}, found {:#x}", at,
                                own, stored));
  Location where = read_structure<Location>(head.data() + kLocationsAt);
  constexpr std::uint32_t kIgnored = 1;
  if (where.offset == 0 || where.size == 0 || (where.flags & kIgnored) != 0) return std::nullopt;
  if (where.offset < kAreaHead || where.offset >= size || where.size > size - kAreaHead ||
      where.size > kLargestText)
    throw Malformed(fmt::format("LVM2 metadata area at offset {}: a text of {} bytes at {} does not fit", at,
                                where.size, where.offset));
  // the area is a ring behind its head
  std::uint64_t first = std::min(where.size, size - where.offset);
  Bytes text = read_exactly(volume, at + where.offset, first, "LVM2 metadata");
  Bytes rest = read_exactly(volume, at + kAreaHead, where.size - first, "LVM2 metadata");
  text.insert(text.end(), rest.begin(), rest.end());
  if (std::uint32_t own = sum_of(text); !sum_fits(own, where.checksum))
    throw Malformed(fmt::format("LVM2 metadata at offset {}: expected checksum {:#x}, found {:#x}",
                                at + where.offset, where.checksum, own));
  return std::string(as_text(text));
}

PlacedFields shown_label(Probe& probe) {
  for (std::uint64_t sector = 0; sector < kLabelSectors; ++sector)
    if (starts_with(probe.at(sector * kLabelSector, kLabelSector), kLabelMark))
      return fields_at<LabelHeader>(probe, sector * kLabelSector);
  return {};
}

}  // namespace operculum::lvm
