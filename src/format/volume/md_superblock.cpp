#include "format/volume/md_superblock.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/checksum.h"
#include "base/fields.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "container/record_fields.h"

namespace operculum::md {
namespace {

constexpr std::uint32_t kMagic = 0xA92B4EFC;
constexpr std::uint64_t kSector = 512;
constexpr std::size_t kRolesAt = 256, kOldSize = 4096, kMostMembers = 1920;

/// struct mdp_superblock_1.
struct NewSuper {
  std::uint32_t magic = 0, major_version = 0, feature_map = 0;
  std::array<Byte, 16> set_uuid = {};
  std::array<Byte, 32> set_name = {};
  std::uint32_t level = 0, layout_number = 0;
  std::uint64_t size = 0;
  std::uint32_t chunksize = 0, raid_disks = 0;
  std::uint64_t data_offset = 0, data_size = 0, super_offset = 0, recovery_offset = 0;
  std::uint32_t dev_number = 0;
  std::uint64_t utime = 0, events = 0, resync_offset = 0;
  std::uint32_t sb_csum = 0, max_dev = 0;
  static constexpr auto layout = little_endian(
      field("magic", &NewSuper::magic), field("major_version", &NewSuper::major_version),
      field("feature_map", &NewSuper::feature_map), from_byte<16>(), field("set_uuid", &NewSuper::set_uuid),
      field("set_name", &NewSuper::set_name), from_byte<72>(), field("level", &NewSuper::level),
      field("layout", &NewSuper::layout_number), field("size", &NewSuper::size),
      field("chunksize", &NewSuper::chunksize), field("raid_disks", &NewSuper::raid_disks), from_byte<128>(),
      field("data_offset", &NewSuper::data_offset), field("data_size", &NewSuper::data_size),
      field("super_offset", &NewSuper::super_offset), field("recovery_offset", &NewSuper::recovery_offset),
      field("dev_number", &NewSuper::dev_number), from_byte<192>(), field("utime", &NewSuper::utime),
      field("events", &NewSuper::events), field("resync_offset", &NewSuper::resync_offset),
      field("sb_csum", &NewSuper::sb_csum), field("max_dev", &NewSuper::max_dev));
};
enum Feature : std::uint32_t { recovering_feature = 2, reshaping_feature = 4 };

/// mdp_super_t, in the byte order of the machine that made it.
struct OldSuper {
  std::uint32_t magic = 0, major_version = 0, minor_version = 0, uuid0 = 0, level = 0, size = 0,
                raid_disks = 0, uuid1 = 0, uuid2 = 0, uuid3 = 0, utime = 0, state = 0, sb_csum = 0,
                events_a = 0, events_b = 0, layout_number = 0, chunk_size = 0, this_raid_disk = 0,
                this_state = 0;
  static constexpr std::size_t sum_at = 152;
  static constexpr auto layout = little_endian(
      field("md_magic", &OldSuper::magic), field("major_version", &OldSuper::major_version),
      field("minor_version", &OldSuper::minor_version), from_byte<20>(), field("set_uuid0", &OldSuper::uuid0),
      from_byte<28>(), field("level", &OldSuper::level), field("size", &OldSuper::size), from_byte<40>(),
      field("raid_disks", &OldSuper::raid_disks), from_byte<52>(), field("set_uuid1", &OldSuper::uuid1),
      field("set_uuid2", &OldSuper::uuid2), field("set_uuid3", &OldSuper::uuid3), from_byte<128>(),
      field("utime", &OldSuper::utime), field("state", &OldSuper::state), from_byte<152>(),
      field("sb_csum", &OldSuper::sb_csum), field("events", &OldSuper::events_a),
      field("events (second half)", &OldSuper::events_b), from_byte<256>(),
      field("layout", &OldSuper::layout_number), field("chunk_size", &OldSuper::chunk_size),
      from_byte<3980>(), field("this_disk.raid_disk", &OldSuper::this_raid_disk),
      field("this_disk.state", &OldSuper::this_state));
};

std::uint32_t folded(std::uint64_t sum) {
  return static_cast<std::uint32_t>((sum & 0xFFFFFFFF) + (sum >> 32));
}

template <std::endian Order>
std::uint32_t sum_without(ByteView raw, std::size_t hole) {
  Fields<Order> f(raw, "MD superblock");
  std::uint64_t sum = 0;
  std::size_t at = 0;
  for (; at + 4 <= raw.size(); at += 4) sum += at == hole ? 0 : f.u32(at);
  if (at + 2 <= raw.size()) sum += f.u16(at);
  return folded(sum);
}

std::optional<Superblock> read_new(std::uint64_t at, std::string_view version, const Read& read) {
  Bytes raw = read(at, kRolesAt);
  if (raw.size() < kRolesAt) return std::nullopt;
  NewSuper s = read_structure<NewSuper>(raw.data());
  // of a member that is a part of a larger disk the superblock may be at the end of that, too
  if (s.magic != kMagic || s.major_version != 1 || s.super_offset != at / kSector ||
      s.max_dev > kMostMembers || s.raid_disks > kMostMembers)
    return std::nullopt;
  Bytes roles = read(at + kRolesAt, std::size_t{s.max_dev} * 2);
  if (roles.size() < std::size_t{s.max_dev} * 2) return std::nullopt;
  raw.insert(raw.end(), roles.begin(), roles.end());
  Superblock out;
  constexpr std::size_t kSumAt = 216;
  out.sum_fits = sum_fits(sum_without<std::endian::little>(raw, kSumAt), s.sb_csum);
  out.version = version;
  out.at = at;
  out.array = s.set_uuid;
  out.name = until_zero(as_text(s.set_name));
  out.shape = {static_cast<int>(s.level), s.layout_number, s.chunksize * kSector, s.size * kSector};
  out.members = s.raid_disks;
  constexpr std::uint16_t kJournal = 0xFFFD;  // above: failed and spare
  if (s.dev_number < s.max_dev) {
    std::uint16_t role = LittleFields(roles, "MD roles").u16(std::size_t{s.dev_number} * 2);
    if (role < kJournal) out.role = role;
    out.journal = role == kJournal;
  }
  out.events = s.events;
  out.data_at = s.data_offset * kSector;
  out.data_size = s.data_size * kSector;
  if ((s.feature_map & recovering_feature) != 0) out.synced = s.recovery_offset * kSector;
  out.reshaping = (s.feature_map & reshaping_feature) != 0;
  out.clean = s.resync_offset == UINT64_MAX || s.resync_offset >= s.size;
  out.updated = from_unix(static_cast<std::int64_t>(s.utime & 0xFFFFFFFFFF));
  return out;
}

template <std::endian Order>
std::optional<Superblock> read_old(ByteView raw, std::uint64_t at) {
  OldSuper s = read_structure<OldSuper, Order>(raw.data());
  if (s.magic != kMagic || s.major_version != 0 || s.raid_disks > kMostMembers) return std::nullopt;
  std::uint64_t used = std::uint64_t{s.size} * 1024;
  // a partition at the end of a disk: what the superblock says of its size does not fit the disk's end
  constexpr std::uint64_t kSlack = 2 << 20;
  bool sized = static_cast<int>(s.level) > 0;
  if (used > at || (sized && at - used > kSlack + s.chunk_size)) return std::nullopt;
  Superblock out;
  out.sum_fits = sum_fits(sum_without<Order>(raw, OldSuper::sum_at), s.sb_csum);
  out.version = "0.90";
  out.at = at;
  out.order = Order;
  std::uint32_t ids[] = {s.uuid0, s.uuid1, s.uuid2, s.uuid3};
  for (std::size_t i = 0; i < 16; ++i) out.array[i] = static_cast<Byte>(ids[i / 4] >> (24 - i % 4 * 8));
  std::uint64_t chunk = s.chunk_size, all = chunk == 0 ? at : at / chunk * chunk;
  out.shape = {static_cast<int>(s.level), s.layout_number, chunk, sized ? used : all};
  out.members = s.raid_disks;
  constexpr std::uint32_t kActive = 1 << 1, kFaulty = 1 << 0;
  if ((s.this_state & kActive) != 0 && (s.this_state & kFaulty) == 0 && s.this_raid_disk < s.raid_disks)
    out.role = s.this_raid_disk;
  std::uint32_t high = Order == std::endian::big ? s.events_a : s.events_b,
                low = Order == std::endian::big ? s.events_b : s.events_a;
  out.events = std::uint64_t{high} << 32 | low;
  out.data_size = sized ? used : all;
  out.clean = (s.state & 1) != 0;
  out.updated = from_unix(s.utime);
  return out;
}

}  // namespace

std::optional<Superblock> find_superblock(std::uint64_t size, const Read& read) {
  constexpr std::uint64_t kOldReserved = 65536, kNewAtEnd = 8 * 1024;
  if (auto found = read_new(4096, "1.2", read)) return found;
  if (auto found = read_new(0, "1.1", read)) return found;
  if (size >= kNewAtEnd) {
    std::uint64_t at = (size / kSector - kNewAtEnd / kSector) / 8 * 8 * kSector;
    if (auto found = read_new(at, "1.0", read)) return found;
  }
  if (size < kOldReserved) return std::nullopt;
  std::uint64_t at = size / kOldReserved * kOldReserved - kOldReserved;
  Bytes raw = read(at, kOldSize);
  if (raw.size() < kOldSize) return std::nullopt;
  if (auto found = read_old<std::endian::little>(raw, at)) return found;
  return read_old<std::endian::big>(raw, at);
}

PlacedFields shown_superblock(Probe& probe) {
  auto found = find_superblock(probe.size().value_or(0), reader_of(probe));
  if (!found) return {};
  return found->version == "0.90" ? fields_at<OldSuper>(probe, found->at, found->order)
                                  : fields_at<NewSuper>(probe, found->at);
}

}  // namespace operculum::md
