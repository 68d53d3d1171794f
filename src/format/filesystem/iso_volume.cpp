#include "format/filesystem/iso_volume.h"

#include "base/fields.h"
#include "base/text.h"

namespace operculum::iso {
namespace {

constexpr unsigned kMostDescriptors = 64, kMostSessions = 100;
constexpr std::uint64_t kSessionGap = 16384;  // sectors looked through for the next session

std::string trimmed(std::string_view raw) {
  return std::string(trim(until_zero(raw)));
}

/// The volume descriptors that begin at `at`; nothing when there is no primary one.
std::optional<Volume> read_volume(const Source& image, std::uint64_t at) {
  std::optional<Volume> volume;
  for (unsigned i = 0; i < kMostDescriptors; ++i) {
    Bytes raw = read_up_to(image, at + i * kSector, kSector);
    if (raw.size() < kSector || as_text(raw).substr(1, 5) != kMark) break;
    LittleFields f(raw, "ISO 9660 volume descriptor", at + i * kSector);
    std::uint8_t type = f.u8(0);
    if (type == 255) break;
    if (type == 1 && !volume) {
      volume.emplace();
      volume->at = at;
      volume->primary_at = at + i * kSector;
      volume->block = f.u16(128);
      if (volume->block != 512 && volume->block != 1024 && volume->block != 2048) volume->block = kSector;
      volume->blocks = f.u32(80);
      volume->path_table_size = f.u32(132);
      volume->path_table = f.u32(140);
      volume->root = f.u32(158);
      volume->root_size = f.u32(166);
      volume->label = trimmed(f.text(40, 32));
      volume->publisher = trimmed(f.text(318, 128));
      volume->application = trimmed(f.text(574, 128));
      volume->made = long_date(f.bytes(813, 17));
    } else if (type == 2 && volume) {
      std::string_view escape_sequence = f.text(88, 3);
      if (escape_sequence == "%/@" || escape_sequence == "%/C" || escape_sequence == "%/E") {
        volume->has_joliet = true;
        volume->joliet_at = at + i * kSector;
        volume->joliet_root = f.u32(158);
        volume->joliet_size = f.u32(166);
        volume->joliet_table_size = f.u32(132);
        volume->joliet_table = f.u32(140);
      }
    } else if (type == 0 && volume && f.text(7, 23) == "EL TORITO SPECIFICATION") {
      volume->boot_catalog = f.u32(71);
    }
  }
  return volume;
}

}  // namespace

Sessions find_sessions(const Source& image, bool first) {
  auto volume = read_volume(image, kDescriptorsAt);
  if (!volume) throw Malformed("ISO 9660: there is no primary volume descriptor");
  Sessions sessions{*volume};
  while (sessions.count < kMostSessions) {
    std::uint64_t end =
        (volume->blocks * volume->block + kDescriptorsAt - 1) / kDescriptorsAt * kDescriptorsAt;
    std::optional<Volume> next;
    for (std::uint64_t gap = 0; gap < kSessionGap && !next; gap += 16) {
      std::uint64_t at = end + (gap + 16) * kSector;
      if (at <= volume->at || at >= image.size()) break;
      next = read_volume(image, at);
    }
    if (!next) break;
    volume = next;
    ++sessions.count;
    if (!first) sessions.shown = *volume;
  }
  return sessions;
}

}  // namespace operculum::iso
