// Processor microcode: updates one behind another. Intel's have a header of 48 bytes (Software Developer's
// Manual volume 3A, section 10.11) and sum up to zero in 32-bit words; AMD's lie in a container with a table
// of which processors they are for (Linux kernel documentation, arch/x86/microcode, and its loader).
#include <fmt/format.h>

#include "base/error.h"
#include "base/structure_fields.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"

namespace operculum {
namespace {

/// Intel's header; dates are of decimal digits: month, day, year.
struct IntelHeader {
  std::uint32_t version = 0, revision = 0, date = 0, signature = 0, checksum = 0, loader = 0, platforms = 0,
                data_size = 0, total_size = 0;
  static constexpr auto layout = little_endian(
      field("Header Version", &IntelHeader::version), field("Update Revision", &IntelHeader::revision),
      field("Date", &IntelHeader::date), field("Processor Signature", &IntelHeader::signature),
      field("Checksum", &IntelHeader::checksum), field("Loader Revision", &IntelHeader::loader),
      field("Processor Flags", &IntelHeader::platforms), field("Data Size", &IntelHeader::data_size),
      field("Total Size", &IntelHeader::total_size), from_byte<48>());
};

/// AMD's table of processors (struct equiv_cpu_entry follows), then sections of patches.
struct AmdTable {
  std::uint32_t magic = 0, type = 0, size = 0;
  static constexpr auto layout = little_endian(
      field("magic", &AmdTable::magic), field("type", &AmdTable::type), field("size", &AmdTable::size));
};
struct AmdSection {
  std::uint32_t type = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("type", &AmdSection::type), field("patch_size", &AmdSection::size));
};
/// struct microcode_header_amd, what is of use here.
struct AmdPatch {
  std::uint32_t level = 0;
  std::uint16_t processor = 0;
  static constexpr auto layout =
      little_endian(from_byte<4>(), field("patch_id", &AmdPatch::level), from_byte<24>(),
                    field("processor_rev_id", &AmdPatch::processor), from_byte<32>());
};
enum AmdType : std::uint32_t { amd_table = 0, amd_patch = 1 };
constexpr std::size_t kAmdTableRow = 16;

constexpr std::size_t kIntelHeader = size_on_disk<IntelHeader>, kMostUpdates = 4096;
constexpr std::uint64_t kLargest = 16 << 20;
constexpr std::string_view kAmdMagic("DMA\0", 4);

/// "06-55-04" of the processor's signature: family, model, stepping in hexadecimal, as the updates are
/// called.
std::string signature_name(std::uint32_t signature) {
  std::uint32_t family = signature >> 8 & 15, model = signature >> 4 & 15;
  if (family == 15) family += signature >> 20 & 0xFF;
  if (family == 6 || family >= 15) model |= signature >> 12 & 0xF0;
  return fmt::format("{:02x}-{:02x}-{:02x}", family, model, signature & 15);
}

struct Update {
  std::uint64_t size = 0;
  std::string name, comment;
};

std::optional<Update> intel_update(ByteView head) {
  if (head.size() < kIntelHeader) return std::nullopt;
  auto f = read_structure<IntelHeader>(head.data());
  std::uint32_t month = f.date >> 24, day = f.date >> 16 & 0xFF, year = f.date & 0xFFFF;
  bool fits = f.version == 1 && f.loader == 1 && month >= 1 && month <= 0x12 && day >= 1 && day <= 0x31 &&
              year >= 0x1993 && year <= 0x2199 && f.data_size % 4 == 0;
  if (!fits) return std::nullopt;
  std::uint64_t size = f.data_size == 0 ? 2048 : f.total_size;
  if (size % 4 != 0 || size < kIntelHeader || size > kLargest || size < f.data_size) return std::nullopt;
  return Update{size, fmt::format("{}-rev-{:x}.bin", signature_name(f.signature), f.revision),
                fmt::format("{:04x}-{:02x}-{:02x}, platforms {:#x}", year, month, day, f.platforms)};
}

bool sums_up(const Source& bytes, std::uint64_t at, std::uint64_t size) {
  Bytes all = read_up_to(bytes, at, size);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i + 4 <= all.size(); i += 4) sum += load_little<std::uint32_t>(all.data() + i);
  return all.size() == size && sum == 0;
}

void read_intel(const Source& bytes, Firmware& out) {
  std::uint64_t at = 0;
  for (std::size_t i = 0; i < kMostUpdates && at < bytes.size(); ++i) {
    auto update = intel_update(read_up_to(bytes, at, kIntelHeader));
    if (!update) break;
    if (!sums_up(bytes, at, update->size))
      out.fault(fmt::format("{} does not sum up to zero: it is damaged or cut short", update->name));
    out.parts.push_back(
        {.path = update->name, .type = "update", .at = at, .size = update->size, .comment = update->comment});
    at += update->size;
  }
  add_what_is_behind(bytes, at, out);
}

void read_amd(const Source& bytes, Firmware& out) {
  std::uint64_t at = 0;
  std::size_t updates = 0;
  constexpr std::size_t table_size = size_on_disk<AmdTable>, section_size = size_on_disk<AmdSection>,
                        patch_size = size_on_disk<AmdPatch>;
  while (at + table_size <= bytes.size() && starts_with(read_up_to(bytes, at, 4), kAmdMagic)) {
    auto table = read_structure<AmdTable>(read_exactly(bytes, at, table_size, "microcode container").data());
    if (table.type != amd_table)
      throw Malformed(fmt::format("microcode container at offset {}: expected its table first", at));
    at += table_size;
    out.parts.push_back({.path = "processors", .type = "table of processors", .at = at, .size = table.size});
    at += table.size;
    for (; at + section_size <= bytes.size() && updates < kMostUpdates; ++updates) {
      Bytes raw = read_up_to(bytes, at, section_size + patch_size);
      auto section = read_structure<AmdSection>(raw.data());
      if (section.type != amd_patch) break;
      std::string name = "update.bin";
      if (raw.size() == section_size + patch_size) {
        auto patch = read_structure<AmdPatch>(raw.data() + section_size);
        name = fmt::format("processor-{:04x}-rev-{:x}.bin", patch.processor, patch.level);
      }
      at += section_size;
      out.parts.push_back({.path = name, .type = "update", .at = at, .size = section.size});
      at += section.size;
    }
  }
  add_what_is_behind(bytes, at, out);
}

Match recognise_microcode(Probe& probe) {
  ByteView head = probe.head(kIntelHeader);
  if (starts_with(head, kAmdMagic)) {
    if (head.size() < size_on_disk<AmdTable>) return Match::none;
    auto table = read_structure<AmdTable>(head.data());
    bool fits = table.type == amd_table && table.size % kAmdTableRow == 0 && table.size < kLargest;
    return fits ? Match::front : Match::none;
  }
  auto update = intel_update(head);
  if (!update) return Match::none;
  bool sure = probe.source() ? sums_up(*probe.source(), 0, update->size) : true;
  return sure ? Match::front : Match::weak;
}

ContainerPtr open_microcode(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Firmware out;
  bool amd = starts_with(read_up_to(*bytes, 0, 4), kAmdMagic);
  out.facts.emplace_back("for", amd ? "AMD processors" : "Intel processors");
  if (amd) {
    read_amd(*bytes, out);
  } else {
    read_intel(*bytes, out);
  }
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format microcode_format() {
  return {.id = "microcode",
          .name = "processor microcode",
          .family = "firmware",
          .specification = "Intel Software Developer's Manual 3A, section 10.11; Linux kernel documentation",
          .reads = "several updates of one file, the checksum of Intel's",
          .lacks = "",
          .suffixes = {},
          .recognise = recognise_microcode,
          .open = open_microcode,
          .records = {record_at<IntelHeader>("header", 0)}};
}

}  // namespace operculum
