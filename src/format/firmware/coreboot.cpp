// Flash images of coreboot: its file system CBFS (coreboot documentation, "lib/cbfs": components that begin
// "LARCHIVE" at multiples of 64 bytes, numbers highest byte first, attributes behind the header) and the
// flash map
// ("lib/flashmap"), whose areas hold file systems of their own. Without a map one file system fills what the
// master header says, or the file.
#include <fmt/format.h>

#include "base/error.h"
#include "base/structure_fields.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "base/units.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/flash_map.h"
#include "format/firmware/formats.h"
#include "io/cached_source.h"

namespace operculum {
namespace {

constexpr std::string_view kFileMagic = "LARCHIVE";
constexpr std::uint64_t kAlignment = 64, kLargestRom = 256 << 20;
constexpr std::size_t kMostFiles = 10'000, kMostLooks = 16 << 20, kLongestHeader = 4096;
constexpr std::uint32_t kPacked = 0x42435A4C, kHash = 0x68736148;  // attributes

/// struct cbfs_file: in front of each component; its name and attributes follow.
struct ComponentHeader {
  std::array<Byte, 8> magic{};
  std::uint32_t len = 0, type = 0, attributes_offset = 0, offset = 0;  ///< offset: of its data
  static constexpr auto layout = big_endian(
      field("magic", &ComponentHeader::magic), field("len", &ComponentHeader::len),
      field("type", &ComponentHeader::type), field("attributes_offset", &ComponentHeader::attributes_offset),
      field("offset", &ComponentHeader::offset));
};
constexpr std::size_t kFileHeader = size_on_disk<ComponentHeader>;

/// struct cbfs_file_attribute, and what those for packed data and for digests have behind it.
struct AttributeHeader {
  std::uint32_t tag = 0, len = 0;  ///< len: with this header
  static constexpr auto layout =
      big_endian(field("tag", &AttributeHeader::tag), field("len", &AttributeHeader::len));
};
struct PackedAttribute {
  std::uint32_t compression = 0, decompressed_size = 0;
  static constexpr auto layout = big_endian(field("compression", &PackedAttribute::compression),
                                            field("decompressed_size", &PackedAttribute::decompressed_size));
};
struct HashAttribute {
  std::uint32_t hash_type = 0;
  static constexpr auto layout = big_endian(field("hash_type", &HashAttribute::hash_type));
};

/// struct cbfs_header: the master header.
struct MasterHeader {
  std::array<Byte, 4> magic{};
  std::uint32_t version = 0, romsize = 0, bootblocksize = 0, align = 0, offset = 0;
  static constexpr std::size_t size = 32;
  static constexpr auto layout = big_endian(
      field("magic", &MasterHeader::magic), field("version", &MasterHeader::version),
      field("romsize", &MasterHeader::romsize), field("bootblocksize", &MasterHeader::bootblocksize),
      field("align", &MasterHeader::align), field("offset", &MasterHeader::offset));
};

constexpr NamedNumber kTypes[] = {
    {0x01, "boot block"},   {0x02, "file system header"},
    {0x10, "stage"},        {0x11, "stage"},
    {0x20, "payload"},      {0x21, "image tree"},
    {0x30, "option ROM"},   {0x40, "picture at start"},
    {0x50, "raw"},          {0x51, "VSA"},
    {0x52, "MBI"},          {0x53, "microcode"},
    {0x54, "FIT table"},    {0x60, "FSP"},
    {0x61, "MRC"},          {0x62, "MMA"},
    {0x63, "EFI"},          {0x70, "structure"},
    {0xAA, "CMOS default"}, {0x1AA, "CMOS layout"},
    {0xAB, "SPD"},          {0xAC, "MRC cache"},
    {0, "deleted"},         {0xFFFFFFFF, "empty"},
};

struct Component {
  std::string name;
  std::uint32_t type = 0;
  std::uint64_t data = 0, size = 0, end = 0;
  std::uint32_t packing = 0;  ///< 0: none, 1: LZMA, 2: LZ4
  std::uint64_t unpacked = 0;
  Expected hash;
};

void read_attributes(ByteView header, std::size_t at, Component& out) {
  BigFields f(header, "CBFS attributes");
  constexpr std::size_t head_size = size_on_disk<AttributeHeader>;
  constexpr std::size_t digest_at = head_size + size_on_disk<HashAttribute>;
  while (at + head_size <= header.size()) {
    auto [tag, length] = structure_at<AttributeHeader>(f, at);
    if (length < head_size || at + length > header.size()) return;
    if (tag == kPacked && length >= head_size + size_on_disk<PackedAttribute>) {
      auto packed = structure_at<PackedAttribute>(f, at + head_size);
      out.packing = packed.compression;
      out.unpacked = packed.decompressed_size;
    } else if (tag == kHash && length >= digest_at) {
      constexpr std::string_view kSums[] = {"", "", "sha1", "sha256", "sha512"};
      std::uint32_t kind = structure_at<HashAttribute>(f, at + head_size).hash_type;
      if (kind < std::size(kSums) && !kSums[kind].empty() &&
          length - digest_at == find_sum(kSums[kind])->bytes) {
        ByteView digest = f.bytes(at + digest_at, length - digest_at);
        out.hash = {.sum = kSums[kind], .digest = Bytes(digest.begin(), digest.end())};
      }
    }
    at += length;
  }
}

std::optional<Component> component_at(const Source& bytes, std::uint64_t at) {
  Bytes head = read_up_to(bytes, at, kFileHeader);
  if (head.size() < kFileHeader || !starts_with(head, kFileMagic)) return std::nullopt;
  auto stated = read_structure<ComponentHeader>(head.data());
  std::uint64_t attributes = stated.attributes_offset, offset = stated.offset;
  if (offset < kFileHeader || offset > kLongestHeader) return std::nullopt;
  Bytes header = read_up_to(bytes, at, offset);
  std::size_t names_end =
      attributes >= kFileHeader && attributes < header.size() ? attributes : header.size();
  Component out;
  out.type = stated.type;
  out.name = field_text(ByteView(header).subspan(std::min(kFileHeader, names_end),
                                                 names_end - std::min(kFileHeader, names_end)));
  out.data = at + offset;
  out.size = stated.len;
  out.end = out.data + stated.len;
  if (names_end < header.size()) read_attributes(header, names_end, out);
  return out;
}

/// The bytes that are searched, and how often they were looked at: areas of a map may lie over each other.
struct Search {
  SourcePtr bytes, cached;
  std::size_t looks = 0;
};

/// The components between two places; the folder's name stands in front of theirs.
void add_components(Search& search, std::uint64_t begin, std::uint64_t end, const std::string& folder,
                    Firmware& out) {
  const SourcePtr& bytes = search.bytes;
  std::size_t count = 0;
  for (std::uint64_t at = begin; at + kFileHeader <= end && count < kMostFiles;) {
    if (++search.looks > kMostLooks)
      throw LimitExceeded("flash image: its areas lie over each other too often");
    auto found = component_at(*search.cached, at);
    if (!found) {
      at += kAlignment;
      continue;
    }
    ++count;
    at = std::max(at + kAlignment, (found->end - begin + kAlignment - 1) / kAlignment * kAlignment + begin);
    if (found->type == 0 || found->type == 0xFFFFFFFF) continue;
    std::string name =
        found->name.empty() ? fmt::format("unnamed-{:x}", found->data) : clean_path(found->name);
    FirmwarePart part{.path = folder + name,
                      .type = name_in(kTypes, found->type, "type"),
                      .at = found->data,
                      .size = found->size};
    part.expected = found->hash;
    if (found->packing != 0) {
      std::string_view codec = found->packing == 1 ? "lzma-alone" : found->packing == 2 ? "lz4" : "unknown";
      part.method = codec;
      part.unpacked = found->unpacked;
      SourcePtr packed = make_slice(bytes, found->data, found->size);
      Expected stored = std::exchange(part.expected, {});  // of the bytes as they lie
      part.checked = !stored.sum.empty();
      std::uint64_t size = found->unpacked;
      part.open = [packed, codec, size, stored] {
        return make_content([=]() -> StreamPtr {
          CodecOptions options;
          options.unpacked_size = size;
          StreamPtr from = make_source_stream(packed);
          if (!stored.sum.empty()) from = make_checked(std::move(from), stored);
          return make_checked(open_decoder(codec, std::move(from), options), {.size = size});
        });
      };
    }
    out.parts.push_back(std::move(part));
  }
}

bool holds_components(const Source& bytes, std::uint64_t at, std::uint64_t size) {
  for (std::uint64_t end = std::min(bytes.size(), at + std::min<std::uint64_t>(size, 1 << 20)); at < end;
       at += kAlignment) {
    if (component_at(bytes, at)) return true;
  }
  return false;
}

/// The areas of a map: those that hold components as folders, others as they are; what lies within another
/// area is a file of its own all the same, for that is what the map names.
void add_areas(Search& search, const FlashMap& map, Firmware& out) {
  out.facts.emplace_back("flash map",
                         fmt::format("\"{}\" of {} areas, at offset {}", map.name, map.areas.size(), map.at));
  for (const FlashArea& area : map.areas) {
    std::string name = part_name(area.name, "area");
    std::string flags;
    for (auto [bit, word] : {std::pair{1, "static"}, {2, "packed"}, {4, "read-only"}}) {
      if ((area.flags & bit) != 0) flags += (flags.empty() ? "" : ", ") + std::string(word);
    }
    std::string where =
        fmt::format("{:#x} to {:#x}{}{}", area.at, area.at + area.size, flags.empty() ? "" : ", ", flags);
    bool parent = std::any_of(map.areas.begin(), map.areas.end(), [&](const FlashArea& other) {
      return &other != &area && other.at >= area.at && other.at + other.size <= area.at + area.size &&
             other.size > 0;
    });
    if (!parent && holds_components(*search.bytes, area.at, std::min<std::uint64_t>(area.size, kAlignment))) {
      out.parts.push_back({.path = name, .type = "CBFS", .comment = where, .kind = EntryKind::folder});
      add_components(search, area.at, area.at + area.size, name + "/", out);
    } else {
      out.parts.push_back({.path = name + ".area",
                           .type = parent ? "area of areas" : "area",
                           .at = area.at,
                           .size = area.size,
                           .comment = where});
    }
  }
}

/// Where the master header lies, told relative to the end in the last 4 bytes of the chip.
std::optional<std::uint64_t> first_component(const Source& bytes) {
  if (bytes.size() < 64) return std::nullopt;
  Bytes last = read_up_to(bytes, bytes.size() - 4, 4);
  auto relative = static_cast<std::int32_t>(load_little<std::uint32_t>(last.data()));
  std::uint64_t at = bytes.size() + static_cast<std::uint64_t>(std::int64_t{relative});
  if (relative >= 0 || at + MasterHeader::size > bytes.size()) return std::nullopt;
  Bytes raw = read_up_to(bytes, at, MasterHeader::size);
  if (!starts_with(raw, "ORBC")) return std::nullopt;
  return read_structure<MasterHeader>(raw.data()).offset;
}

Match recognise_coreboot(Probe& probe) {
  SourcePtr bytes = probe.source();
  if (starts_with(probe.head(kFileMagic.size()), kFileMagic)) return Match::front;
  // Chips have sizes of whole blocks; nothing else is searched for a map.
  if (!bytes || bytes->size() % (64 * 1024) != 0 || bytes->size() > kLargestRom) return Match::none;
  if (first_component(*bytes)) return Match::inside;
  return find_flash_map(*bytes) ? Match::inside : Match::none;
}

ContainerPtr open_coreboot(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Firmware out;
  Search search{bytes, make_cached(bytes)};
  if (auto map = find_flash_map(*bytes)) {
    if (map->size != bytes->size())
      out.warn(fmt::format("the flash map is for a chip of {} bytes, the file has {}", grouped(map->size),
                           grouped(bytes->size())));
    add_areas(search, *map, out);
  } else {
    add_components(search, first_component(*bytes).value_or(0), bytes->size(), "", out);
  }
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format coreboot_format() {
  return {.id = "cbfs",
          .name = "coreboot flash image",
          .family = "firmware",
          .specification = "coreboot documentation: CBFS, flash map 1.1",
          .reads = "flash maps, components with LZMA and LZ4, hashes of components (compared)",
          .lacks = "",
          .suffixes = {".cbfs"},
          .recognise = recognise_coreboot,
          .open = open_coreboot};
}

}  // namespace operculum
