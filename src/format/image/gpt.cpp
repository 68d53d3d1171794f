// GUID partition tables (UEFI specification 2.10, section 5.3).
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::string_view kMark = "EFI PART";
constexpr std::uint64_t kSectors[] = {512, 4096};
constexpr std::uint32_t kMostEntries = 4096;

struct TypeName {
  std::string_view guid, name;
};
constexpr TypeName kTypes[] = {
    {"c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"},
    {"21686148-6449-6e6f-744e-656564454649", "BIOS boot"},
    {"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "basic data"},
    {"e3c9e316-0b5c-4db8-817d-f92df00215ae", "reserved"},
    {"de94bba4-06d1-4d40-a16a-bfd50179d6ac", "recovery"},
    {"0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux file system"},
    {"4f68bce3-e8cd-4db1-96e7-fbcaf984b709", "Linux root (x86-64)"},
    {"b921b045-1df0-41c3-af44-4c6f280d3fae", "Linux root (ARM 64)"},
    {"69dad710-2ce4-4e3c-b16c-21a1d49abed3", "Linux root (ARM 32)"},
    {"933ac7e1-2eb4-4f13-b844-0e14e2aef915", "Linux home"},
    {"3b8f8425-20e0-4f3b-907f-1a25a76f98e8", "Linux server data"},
    {"bc13c2ff-59e6-4262-a352-b275fd6f7172", "Linux extended boot"},
    {"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "Linux swap"},
    {"e6d6d379-f507-44c2-a23c-238f2a3df928", "Linux LVM"},
    {"a19d880f-05fc-4d3b-a006-743f0f84911e", "Linux RAID"},
    {"48465300-0000-11aa-aa11-00306543ecac", "HFS+"},
    {"7c3457ef-0000-11aa-aa11-00306543ecac", "APFS"},
};

std::string type_name(const std::string& guid) {
  auto found = std::find_if(std::begin(kTypes), std::end(kTypes),
                            [&](const TypeName& one) { return one.guid == guid; });
  return found != std::end(kTypes) ? std::string(found->name) : guid;
}

/// 5.3.2. `header_size` bytes are summed, with the sum taken as zeros.
struct HeaderRecord {
  std::array<Byte, 8> signature{};
  std::uint32_t header_size = 0, header_crc32 = 0;
  std::uint64_t my_lba = 0, alternate_lba = 0, first_usable_lba = 0, last_usable_lba = 0;
  std::array<Byte, 16> disk_guid{};
  std::uint64_t entries_lba = 0;
  std::uint32_t entry_count = 0, entry_size = 0, entries_crc32 = 0;
  static constexpr auto layout = little_endian(
      field("Signature", &HeaderRecord::signature), from_byte<12>(),
      field("HeaderSize", &HeaderRecord::header_size), field("HeaderCRC32", &HeaderRecord::header_crc32),
      from_byte<24>(), field("MyLBA", &HeaderRecord::my_lba),
      field("AlternateLBA", &HeaderRecord::alternate_lba),
      field("FirstUsableLBA", &HeaderRecord::first_usable_lba),
      field("LastUsableLBA", &HeaderRecord::last_usable_lba), field("DiskGUID", &HeaderRecord::disk_guid),
      field("PartitionEntryLBA", &HeaderRecord::entries_lba),
      field("NumberOfPartitionEntries", &HeaderRecord::entry_count),
      field("SizeOfPartitionEntry", &HeaderRecord::entry_size),
      field("PartitionEntryArrayCRC32", &HeaderRecord::entries_crc32));
};

/// 5.3.3.
struct EntryRecord {
  std::array<Byte, 16> type{}, id{};
  std::uint64_t starting_lba = 0, ending_lba = 0, attributes = 0;
  std::array<Byte, 72> name{};  ///< UTF-16
  static constexpr auto layout = little_endian(
      field("PartitionTypeGUID", &EntryRecord::type), field("UniquePartitionGUID", &EntryRecord::id),
      field("StartingLBA", &EntryRecord::starting_lba), field("EndingLBA", &EntryRecord::ending_lba),
      field("Attributes", &EntryRecord::attributes), field("PartitionName", &EntryRecord::name));
};
static_assert(size_on_disk<EntryRecord> == 128);

struct Header {
  std::uint64_t sector = 512, own = 0, other = 0, entries_at = 0, last_usable = 0,
                first_usable = 0;  // sectors
  std::uint32_t count = 0, entry_size = 0;
  Bytes entries;
  std::string guid;
};

/// The header at a sector with its entries. Throws Malformed when a checksum differs or it makes no sense.
Header read_header(const Source& disk, std::uint64_t sector, std::uint64_t at) {
  Bytes bytes = read_exactly(disk, checked_mul(at, sector, "a GPT header's place"), sector, "GPT header");
  auto raw = read_structure<HeaderRecord>(bytes.data());
  if (as_text(raw.signature) != kMark) throw Malformed("its mark is missing");
  if (raw.header_size < size_on_disk<HeaderRecord> || raw.header_size > sector)
    throw Malformed(fmt::format("a size of {} bytes is not possible", raw.header_size));
  std::fill_n(bytes.begin() + place_of(&HeaderRecord::header_crc32).at, sizeof raw.header_crc32, Byte{0});
  if (std::uint32_t own = crc32(0, ByteView(bytes).first(raw.header_size)); !sum_fits(own, raw.header_crc32))
    throw Malformed("it does not fit its checksum" + told_sums(raw.header_crc32, own));
  if (raw.entry_count > kMostEntries || raw.entry_size < 128 || raw.entry_size > 4096 ||
      raw.entry_size % 8 != 0)
    throw Malformed(fmt::format("{} entries of {} bytes are not possible", raw.entry_count, raw.entry_size));
  Header h{.sector = sector,
           .own = raw.my_lba,
           .other = raw.alternate_lba,
           .entries_at = raw.entries_lba,
           .last_usable = raw.last_usable_lba,
           .first_usable = raw.first_usable_lba,
           .count = raw.entry_count,
           .entry_size = raw.entry_size,
           .guid = guid_text(raw.disk_guid)};
  h.entries = read_exactly(disk, checked_mul(h.entries_at, sector, "the GPT entries' place"),
                           std::uint64_t{h.count} * h.entry_size, "GPT entries");
  if (std::uint32_t own = crc32(0, h.entries); !sum_fits(own, raw.entries_crc32))
    throw Malformed("its entries do not fit their checksum" + told_sums(raw.entries_crc32, own));
  return h;
}

/// The first header, or its backup; tells what is wrong with either.
Header find_header(const Source& disk, std::vector<Finding>& findings) {
  std::string wrong = "its mark is missing";
  for (std::uint64_t sector : kSectors) {
    try {
      Header first = read_header(disk, sector, 1);
      try {
        Header backup = read_header(disk, sector, first.other);
        if (backup.entries != first.entries || backup.guid != first.guid)
          findings.push_back({Finding::Level::warning,
                              "the backup partition table disagrees with the first, which is used"});
      } catch (const Malformed& error) {
        findings.push_back(
            {Finding::Level::warning,
             fmt::format("the backup partition table is damaged or missing: {}", error.what())});
      }
      return first;
    } catch (const Malformed& error) {
      if (starts_with(read_up_to(disk, sector, 8), kMark)) wrong = error.what();
    }
  }
  for (std::uint64_t sector : kSectors) {
    if (disk.size() < 2 * sector) continue;
    try {
      Header backup = read_header(disk, sector, disk.size() / sector - 1);
      findings.push_back(
          {Finding::Level::fault,
           fmt::format("the partition table's header is damaged ({}); its backup at the end was used",
                       wrong)});
      return backup;
    } catch (const Malformed&) {
    }
  }
  throw Malformed(fmt::format("GPT header: {}, and there is no usable backup at the end", wrong));
}

std::string hybrid_note(const Source& disk) {
  constexpr std::uint8_t kProtective = 0xEE;
  auto rows = read_mbr(read_up_to(disk, 0, 512));
  if (!rows) return "there is no protective MBR";
  std::string others;
  for (const MbrRow& row : *rows) {
    if (row.type != 0 && row.type != kProtective)
      others += (others.empty() ? "" : ", ") + mbr_type_name(row.type);
  }
  return others.empty() ? ""
                        : "its MBR names partitions, too (" + others + "): a hybrid table; the GPT is shown";
}

bool has_protective_mbr(ByteView head) {
  auto rows = read_mbr(head);
  return rows && std::any_of(rows->begin(), rows->end(), [](const MbrRow& row) { return row.type == 0xEE; });
}

Match recognise_gpt(Probe& probe) {
  ByteView head = probe.head(4096 + 8);
  for (std::uint64_t sector : kSectors) {
    if (head.size() >= sector + 8 && as_text(head).substr(sector, 8) == kMark) return Match::front;
  }
  if (!has_protective_mbr(head)) return Match::none;
  for (std::uint64_t sector : kSectors) {
    if (starts_with(probe.tail(sector), kMark)) return Match::front;
  }
  return Match::none;
}

ContainerPtr open_gpt(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  PartitionTable table;
  Header header = find_header(*disk, table.findings);
  table.sector = header.sector;
  table.taken.emplace_back(0, header.first_usable * header.sector);
  std::uint64_t sectors = disk->size() / header.sector;
  if (header.last_usable < sectors)
    table.taken.emplace_back((header.last_usable + 1) * header.sector, disk->size());
  table.facts = {{"guid", header.guid}, {"sector", fmt::format("{} bytes", header.sector)}};
  if (std::string note = hybrid_note(*disk); !note.empty())
    table.findings.push_back({Finding::Level::note, note});
  for (std::uint32_t i = 0; i < header.count; ++i) {
    auto row = read_structure<EntryRecord>(header.entries.data() + std::size_t{i} * header.entry_size);
    if (row.type == std::array<Byte, 16>{}) continue;
    std::uint64_t first = row.starting_lba, last = row.ending_lba;
    if (last < first || last >= std::uint64_t{1} << 50) {
      table.findings.push_back(
          {Finding::Level::fault, fmt::format("partition {} ends before it begins; left out", i + 1)});
      continue;
    }
    std::string_view units = as_text(row.name);
    std::size_t length = 0;
    while (length + 1 < units.size() && (units[length] != 0 || units[length + 1] != 0)) length += 2;
    std::string name = to_utf8(units.substr(0, length), "UTF-16LE").value_or("");
    table.partitions.push_back({std::to_string(i + 1), name, type_name(guid_text(row.type)),
                                first * header.sector, (last - first + 1) * header.sector});
  }
  return make_partitions(std::move(disk), std::move(table));
}

}  // namespace

Format gpt_format() {
  return {.id = "gpt",
          .name = "disk with a GUID partition table",
          .family = "partition table",
          .specification = "UEFI specification 2.10, section 5.3",
          .reads =
              "checksums of header and entries, the backup at the end, sectors of 512 and 4096 bytes, "
              "unallocated ranges",
          .lacks = "",
          .suffixes = {".img", ".raw", ".dd"},
          .recognise = recognise_gpt,
          .open = open_gpt,
          .records = {record_at<HeaderRecord>("header", 512)}};
}

}  // namespace operculum
