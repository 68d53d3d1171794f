// Processor microcode: updates one behind another. Intel's have a header of 48 bytes (Software Developer's
// Manual volume 3A, section 10.11) and sum up to zero in 32-bit words; AMD's lie in a container with a table
// of which processors they are for (Linux kernel documentation, arch/x86/microcode, and its loader).
#include <fmt/format.h>

#include "base/error.h"
#include "base/fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/formats.h"

namespace operculum {
namespace {

constexpr std::size_t kIntelHeader = 48, kMostUpdates = 4096;
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
  LittleFields f(head, "microcode header");
  std::uint32_t date = f.u32(8), data = f.u32(28), total = f.u32(32);
  std::uint32_t month = date >> 24, day = date >> 16 & 0xFF, year = date & 0xFFFF;
  bool fits = f.u32(0) == 1 && f.u32(20) == 1 && month >= 1 && month <= 0x12 && day >= 1 && day <= 0x31 &&
              year >= 0x1993 && year <= 0x2199 && data % 4 == 0;
  if (!fits) return std::nullopt;
  std::uint64_t size = data == 0 ? 2048 : total;
  if (size % 4 != 0 || size < kIntelHeader || size > kLargest || size < data) return std::nullopt;
  return Update{size, fmt::format("{}-rev-{:x}.bin", signature_name(f.u32(12)), f.u32(4)),
                fmt::format("{:04x}-{:02x}-{:02x}, platforms {:#x}", year, month, day, f.u32(24))};
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
  while (at + 12 <= bytes.size() && starts_with(read_up_to(bytes, at, 4), kAmdMagic)) {
    Bytes head = read_exactly(bytes, at, 12, "microcode container");
    LittleFields f(head, "microcode container", at);
    if (f.u32(4) != 0)
      throw Malformed(fmt::format("microcode container at offset {}: expected its table first", at));
    out.parts.push_back(
        {.path = "processors", .type = "table of processors", .at = at + 12, .size = f.u32(8)});
    at += 12 + std::uint64_t{f.u32(8)};
    for (; at + 8 <= bytes.size() && updates < kMostUpdates; ++updates) {
      Bytes raw = read_up_to(bytes, at, 8 + 32);
      LittleFields s(raw, "microcode section", at);
      if (s.u32(0) != 1) break;
      std::uint64_t size = s.u32(4);
      std::string name = raw.size() >= 40
                             ? fmt::format("processor-{:04x}-rev-{:x}.bin", s.u16(8 + 24), s.u32(8 + 4))
                             : "update.bin";
      out.parts.push_back({.path = name, .type = "update", .at = at + 8, .size = size});
      at += 8 + size;
    }
  }
  add_what_is_behind(bytes, at, out);
}

Match recognise_microcode(Probe& probe) {
  ByteView head = probe.head(kIntelHeader);
  if (starts_with(head, kAmdMagic)) {
    LittleFields f(head, "");
    bool table = head.size() >= 16 && f.u32(4) == 0 && f.u32(8) % 16 == 0 && f.u32(8) < kLargest;
    return table ? Match::front : Match::none;
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
          .open = open_microcode};
}

}  // namespace operculum
