// VHDX, after [MS-VHDX], little-endian:
//
//   identifier | two headers | two region tables | log | metadata | block allocation table | blocks of 1 MiB
//
// The newer of the two sound headers counts. The regions' places are in the region table, by GUID.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/checksum.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "io/cached_source.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

constexpr std::string_view kMark = "vhdxfile";
constexpr std::uint64_t kKiB = 1024, kMiB = 1 << 20;
constexpr std::string_view kTableRegion = "2dc27766-f623-4200-9d64-115e9bfd4a08";
constexpr std::string_view kMetadataRegion = "8b7ca206-4790-4b9a-b8fe-575f050f886e";
constexpr std::string_view kParameters = "caa16737-fa36-4d43-b3b6-33f0aa44e76b";
constexpr std::string_view kDiskSize = "2fa54224-cd1b-4876-b211-5dbed83bf4b8";
constexpr std::string_view kSectorSize = "8141bf1d-a96f-4709-ba47-f233a8faab5f";
constexpr std::string_view kNoGuid = "00000000-0000-0000-0000-000000000000";
constexpr std::string_view kParentLocator = "a8d35f2d-b30b-454d-abf7-d3d84834ab0c";

enum State : std::uint64_t {
  absent_block = 0,
  undefined_block = 1,
  zero_block = 2,
  unmapped_block = 3,
  present_block = 6,
  partly_block = 7
};

using GuidBytes = std::array<Byte, 16>;

/// 2.2.2; it takes 4 KiB.
struct VhdxHeader {
  std::uint64_t sequence = 0;
  GuidBytes file_write{}, data_write{}, log{};
  static constexpr auto layout =
      little_endian(from_byte<8>(), field("SequenceNumber", &VhdxHeader::sequence),
                    field("FileWriteGuid", &VhdxHeader::file_write),
                    field("DataWriteGuid", &VhdxHeader::data_write), field("LogGuid", &VhdxHeader::log));
};
constexpr std::size_t kVhdxHeaderSize = 4096, checksum_at = 4, checksum_size = 4;

/// 2.2.3.
struct RegionTable {
  std::uint32_t count = 0;
  static constexpr auto layout =
      little_endian(from_byte<8>(), field("EntryCount", &RegionTable::count), from_byte<16>());
};
struct RegionRow {
  GuidBytes guid{};
  std::uint64_t at = 0;
  std::uint32_t length = 0, required = 0;
  static constexpr auto layout =
      little_endian(field("Guid", &RegionRow::guid), field("FileOffset", &RegionRow::at),
                    field("Length", &RegionRow::length), field("Required", &RegionRow::required));
};

/// 2.6.1.
struct MetadataTable {
  std::array<Byte, 8> signature{};
  std::uint16_t count = 0;
  static constexpr auto layout = little_endian(field("Signature", &MetadataTable::signature), from_byte<10>(),
                                               field("EntryCount", &MetadataTable::count), from_byte<32>());
};
struct MetadataRow {
  GuidBytes item{};
  std::uint32_t at = 0, length = 0;
  static constexpr auto layout =
      little_endian(field("ItemId", &MetadataRow::item), field("Offset", &MetadataRow::at),
                    field("Length", &MetadataRow::length), from_byte<32>());
};
constexpr std::uint32_t kMostRows = 2047;  // of either table

/// 2.6.2.1.
struct FileParameters {
  std::uint32_t block_size = 0, flags = 0;
  static constexpr auto layout = little_endian(field("BlockSize", &FileParameters::block_size),
                                               field("HasParent", &FileParameters::flags));
};
constexpr std::uint32_t kHasParent = 2;
/// 2.6.2.2 and 2.6.2.4.
struct VirtualSize {
  std::uint64_t size = 0;
  static constexpr auto layout = little_endian(field("VirtualDiskSize", &VirtualSize::size));
};
struct LogicalSector {
  std::uint32_t size = 0;
  static constexpr auto layout = little_endian(field("LogicalSectorSize", &LogicalSector::size));
};

/// 2.6.2.6.
struct LocatorHead {
  GuidBytes type{};
  std::uint16_t count = 0;
  static constexpr auto layout = little_endian(field("LocatorType", &LocatorHead::type), from_byte<18>(),
                                               field("KeyValueCount", &LocatorHead::count));
};
struct LocatorRow {
  std::uint32_t key_at = 0, value_at = 0;
  std::uint16_t key_size = 0, value_size = 0;
  static constexpr auto layout =
      little_endian(field("KeyOffset", &LocatorRow::key_at), field("ValueOffset", &LocatorRow::value_at),
                    field("KeyLength", &LocatorRow::key_size), field("ValueLength", &LocatorRow::value_size));
};

struct Layout {
  std::uint64_t table = 0, size = 0, block = 0, sector = 512;
  bool has_parent = false;
};

class VhdxSource final : public MappedSource {
 public:
  VhdxSource(SourcePtr file, const Layout& layout, SourcePtr parent)
      : MappedSource(file, layout.size, std::move(parent)),
        tables_(make_cached(std::move(file))),
        layout_(layout),
        ratio_((std::uint64_t{1} << 23) * layout.sector / layout.block) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t index = offset / layout_.block, within = offset % layout_.block,
                  left = layout_.block - within;
    std::uint64_t entry = word(index + index / ratio_), place = entry >> 20 << 20;
    switch (entry & 7) {
      case present_block:
        return {MappedRun::From::stored, left, place + within};
      case partly_block:
        return partly(index, place, within);
      case absent_block:
        return {layout_.has_parent ? MappedRun::From::parent : MappedRun::From::zeros, left};
      default:
        return {MappedRun::From::zeros, left};
    }
  }

 private:
  /// Sectors of a block that come from the parent have no bit in the chunk's bitmap.
  MappedRun partly(std::uint64_t index, std::uint64_t place, std::uint64_t within) const {
    std::uint64_t bitmap = word((index / ratio_ + 1) * (ratio_ + 1) - 1) >> 20 << 20;
    std::uint64_t per_block = layout_.block / layout_.sector, first = within / layout_.sector,
                  base = (index % ratio_) * per_block;
    auto bit = [&](std::uint64_t number) {
      Bytes raw = read_exactly(*tables_, bitmap + (base + number) / 8, 1, "VHDX sector bitmap");
      return (raw[0] >> ((base + number) % 8) & 1) != 0;
    };
    bool own = bit(first);
    std::uint64_t last = first + 1;
    while (last < per_block && last - first < 4096 && bit(last) == own) ++last;
    std::uint64_t length = last * layout_.sector - within;
    return own ? MappedRun{MappedRun::From::stored, length, place + within}
               : MappedRun{MappedRun::From::parent, length};
  }

  std::uint64_t word(std::uint64_t index) const {
    constexpr std::size_t entry_size = sizeof(std::uint64_t);
    return load_little<std::uint64_t>(
        read_exactly(*tables_, layout_.table + index * entry_size, entry_size, "VHDX block table").data());
  }

  SourcePtr tables_;
  Layout layout_;
  std::uint64_t ratio_;
};

bool sum_fits(Bytes raw) {
  std::uint32_t stored = load_little<std::uint32_t>(raw.data() + checksum_at);
  std::fill_n(raw.begin() + checksum_at, checksum_size, Byte{0});
  return ~crc32c(~0U, raw) == stored;
}

/// A log that is in use holds changes that were not yet written to their place.
/// Returns the id of the newest state of the data; empty when none was written.
std::string check_headers(const Source& file, std::vector<Finding>& findings) {
  std::string id;
  std::uint64_t newest = 0;
  bool any = false, in_use = false;
  for (std::uint64_t at : {64 * kKiB, 128 * kKiB}) {
    Bytes raw = read_up_to(file, at, kVhdxHeaderSize);
    if (raw.size() < kVhdxHeaderSize || !starts_with(raw, "head") || !sum_fits(raw)) continue;
    auto header = read_structure<VhdxHeader>(raw.data());
    if (any && header.sequence < newest) continue;
    any = true;
    newest = header.sequence;
    id = guid_text(header.data_write);
    in_use = header.log != GuidBytes{};
  }
  if (!any) findings.push_back({Finding::Level::warning, "both headers are damaged"});
  if (in_use)
    findings.push_back({Finding::Level::warning,
                        "it was not closed properly: its log holds changes that are not applied here"});
  return id == kNoGuid ? "" : id;
}

std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> read_regions(const Source& file) {
  for (std::uint64_t at : {192 * kKiB, 256 * kKiB}) {
    Bytes raw = read_up_to(file, at, 64 * kKiB);
    if (raw.size() < 64 * kKiB || !starts_with(raw, "regi") || !sum_fits(raw)) continue;
    LittleFields f(raw, "VHDX region table", at);
    std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> out;
    std::uint32_t count = std::min(structure_at<RegionTable>(f, 0).count, kMostRows);
    for (std::uint32_t i = 0; i < count; ++i) {
      auto row = structure_at<RegionRow>(f, size_on_disk<RegionTable> + i * size_on_disk<RegionRow>);
      out[guid_text(row.guid)] = {row.at, row.length};
    }
    return out;
  }
  throw Malformed("VHDX: both region tables are damaged or missing");
}

std::map<std::string, Bytes> read_metadata(const Source& file, std::uint64_t at) {
  Bytes raw = read_exactly(file, at, 64 * kKiB, "VHDX metadata table");
  LittleFields f(raw, "VHDX metadata table", at);
  auto head = structure_at<MetadataTable>(f, 0);
  if (as_text(head.signature) != "metadata") throw Malformed("VHDX metadata table: the mark is missing");
  std::map<std::string, Bytes> out;
  constexpr std::uint32_t kLargestItem = 1 << 20;
  for (std::uint32_t i = 0; i < std::min<std::uint32_t>(head.count, kMostRows); ++i) {
    auto row = structure_at<MetadataRow>(f, size_on_disk<MetadataTable> + i * size_on_disk<MetadataRow>);
    out[guid_text(row.item)] =
        read_exactly(file, at + row.at, std::min(row.length, kLargestItem), "VHDX metadata");
  }
  return out;
}

/// The parent's name and the ids that it may have, from pairs of key and value.
ParentImage parent_of(ByteView raw) {
  LittleFields f(raw, "VHDX parent locator");
  ParentImage parent;
  std::uint32_t count = structure_at<LocatorHead>(f, 0).count;
  for (std::uint32_t i = 0; i < count; ++i) {
    auto row = structure_at<LocatorRow>(f, size_on_disk<LocatorHead> + i * size_on_disk<LocatorRow>);
    std::string key = to_utf8(f.text(row.key_at, row.key_size), "UTF-16LE").value_or("");
    std::string value = to_utf8(f.text(row.value_at, row.value_size), "UTF-16LE").value_or("");
    bool absolute = key == "absolute_win32_path" || key == "volume_path";
    if (key == "relative_path" || (parent.name.empty() && absolute)) parent.name = value;
    if (key.starts_with("parent_linkage") && value.size() > 2)  // "{...}"
      parent.ids.push_back(to_lower(value.substr(1, value.size() - 2)));
  }
  return parent;
}

Match recognise_vhdx(Probe& probe) {
  return starts_with(probe.head(8), kMark) ? Match::front : Match::none;
}

ContainerPtr open_vhdx(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  DiskImage image;
  std::string state_id = check_headers(*file, image.findings);
  auto regions = read_regions(*file);
  auto metadata_at = regions.find(std::string(kMetadataRegion)),
       table_at = regions.find(std::string(kTableRegion));
  if (metadata_at == regions.end() || table_at == regions.end())
    throw Malformed("VHDX: the region table lacks a region");
  auto metadata = read_metadata(*file, metadata_at->second.first);
  auto item = [&](std::string_view id, std::size_t size) {
    auto found = metadata.find(std::string(id));
    if (found == metadata.end() || found->second.size() < size)
      throw Malformed(fmt::format("VHDX metadata: the item {} is missing", id));
    return LittleFields(found->second, "VHDX metadata");
  };
  Layout layout;
  layout.table = table_at->second.first;
  auto parameters = structure_at<FileParameters>(item(kParameters, size_on_disk<FileParameters>), 0);
  layout.block = parameters.block_size;
  layout.has_parent = (parameters.flags & kHasParent) != 0;
  layout.size = structure_at<VirtualSize>(item(kDiskSize, size_on_disk<VirtualSize>), 0).size;
  layout.sector = structure_at<LogicalSector>(item(kSectorSize, size_on_disk<LogicalSector>), 0).size;
  if (layout.block < kMiB || layout.block > 256 * kMiB || (layout.block & (layout.block - 1)) != 0 ||
      (layout.sector != 512 && layout.sector != 4096) || layout.size > 64 * kMiB * kMiB)
    throw Malformed(fmt::format(
        "VHDX metadata: expected blocks of 1 to 256 MiB, a power of two, sectors of 512 or 4096 bytes and "
        "at most 64 TiB, found {}, {} and {} bytes",
        layout.block, layout.sector, layout.size));
  image.facts = {{"kind", layout.has_parent ? "difference" : "dynamic or fixed"},
                 {"block", size_fact(layout.block)}};
  if (!state_id.empty()) image.facts.emplace_back(kIdFact, state_id);
  SourcePtr parent;
  if (layout.has_parent) {
    ParentImage wanted = parent_of(item(kParentLocator, size_on_disk<LocatorHead>).all());
    image.facts.emplace_back("parent", wanted.name);
    parent = open_parent(input, context, wanted, image.findings);
  }
  image.bytes = std::make_shared<VhdxSource>(file, layout, std::move(parent));
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format vhdx_format() {
  return {.id = "vhdx",
          .name = "VHDX disk image",
          .family = "disk image",
          .specification = "[MS-VHDX]",
          .reads =
              "fixed, dynamic and differencing images with the parent beside them; checksums; the second "
              "region table",
          .lacks = "replaying the log",
          .suffixes = {".vhdx", ".avhdx"},
          .single_stream = true,
          .recognise = recognise_vhdx,
          .open = open_vhdx,
          .records = {record_at<VhdxHeader>("first header", 64 * kKiB),
                      record_at<VhdxHeader>("second header", 128 * kKiB),
                      record_at<RegionTable>("region table", 192 * kKiB)}};
}

}  // namespace operculum
