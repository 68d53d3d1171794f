#include "format/filesystem/iso_volume.h"

#include "base/text.h"
#include "format/filesystem/iso_records.h"

namespace operculum::iso {
namespace {

constexpr unsigned kMostDescriptors = 64, kMostSessions = 100;
constexpr std::uint64_t kSessionGap = 16384;  // sectors looked through for the next session

std::string trimmed(ByteView raw) {
  return std::string(trim(until_zero(as_text(raw))));
}

void take_primary(const VolumeDescriptor& primary, Volume& out) {
  out.block = primary.block_size;
  if (out.block != 512 && out.block != 1024 && out.block != 2048) out.block = kSector;
  auto root = read_structure<FolderRecord>(primary.root.data());
  out.blocks = primary.space_size;
  out.path_table_size = primary.path_table_size;
  out.path_table = primary.path_table;
  out.root = root.extent;
  out.root_size = root.data_length;
  out.label = trimmed(primary.volume);
  out.publisher = trimmed(primary.publisher);
  out.application = trimmed(primary.application);
  out.made = long_date(primary.created);
}

/// Joliet's levels 1 to 3.
bool is_joliet(const VolumeDescriptor& supplementary) {
  std::string_view escape_sequence = as_text(supplementary.escape_sequences).substr(0, 3);
  return escape_sequence == "%/@" || escape_sequence == "%/C" || escape_sequence == "%/E";
}

void take_joliet(const VolumeDescriptor& supplementary, Volume& out) {
  auto root = read_structure<FolderRecord>(supplementary.root.data());
  out.has_joliet = true;
  out.joliet_root = root.extent;
  out.joliet_size = root.data_length;
  out.joliet_table_size = supplementary.path_table_size;
  out.joliet_table = supplementary.path_table;
}

/// The volume descriptors that begin at `at`; nothing when there is no primary one.
std::optional<Volume> read_volume(const Source& image, std::uint64_t at) {
  std::optional<Volume> volume;
  for (unsigned i = 0; i < kMostDescriptors; ++i) {
    Bytes raw = read_up_to(image, at + i * kSector, kSector);
    if (raw.size() < kSector) break;
    auto head = read_structure<DescriptorHead>(raw.data());
    if (as_text(head.identifier) != kMark || head.type == last_descriptor) break;
    auto descriptor = read_structure<VolumeDescriptor>(raw.data());
    if (head.type == primary_descriptor && !volume) {
      volume.emplace();
      volume->at = at;
      volume->primary_at = at + i * kSector;
      take_primary(descriptor, *volume);
    } else if (head.type == supplementary_descriptor && volume && is_joliet(descriptor)) {
      volume->joliet_at = at + i * kSector;
      take_joliet(descriptor, *volume);
    } else if (head.type == boot_record_descriptor && volume) {
      auto boot = read_structure<BootDescriptor>(raw.data());
      if (as_text(boot.system).starts_with(kElTorito)) volume->boot_catalog = boot.catalog;
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
