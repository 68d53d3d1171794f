// Files for device firmware upgrade over USB: any file with the suffix of 16 bytes that the Universal Serial
// Bus Device Class Specification for Device Firmware Upgrade (revision 1.1, appendix B) puts behind it, and
// the extension by STMicroelectronics (UM0391), which holds several targets of elements with addresses. The
// CRC-32 is taken over all but itself and is not inverted at the end.
#include <fmt/format.h>

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "format/firmware/firmware_parts.h"
#include "format/formats.h"
#include "io/digest.h"

namespace operculum {
namespace {

constexpr std::string_view kSuffixMagic = "UFD", kPrefixMagic = "DfuSe", kTargetMagic = "Target";
constexpr std::size_t kSuffixSize = 16, kPrefixSize = 11, kTargetSize = 274, kElementSize = 8;
constexpr std::uint32_t kMostElements = 100'000;
constexpr std::uint64_t kLargest = 256 << 20;  // bytes whose checksum is computed to recognise them

/// Without the inversion at the end.
std::uint32_t sum_of(const SourcePtr& bytes, std::uint64_t size) {
  StreamPtr stream = make_source_stream(bytes, 0, size);
  return ~sums_of_stream(*stream, Sums::crc32, [](std::uint64_t) {}).crc32.value_or(0);
}

bool has_suffix(ByteView tail) {
  if (tail.size() < kSuffixSize) return false;
  LittleFields f(tail.last(kSuffixSize), "");
  return f.text(8, 3) == kSuffixMagic && f.u8(11) == kSuffixSize;
}

Match recognise_upgrade(Probe& probe) {
  ByteView head = probe.head(kPrefixSize);
  if (starts_with(head, kPrefixMagic) && head.size() == kPrefixSize && head[5] == 1) return Match::front;
  if (!has_suffix(probe.tail(kSuffixSize)) || !probe.source()) return Match::none;
  std::uint64_t size = probe.source()->size();
  LittleFields f(probe.tail(kSuffixSize), "");
  bool fits = size <= kLargest && sum_of(probe.source(), size - 4) == f.u32(12);
  return fits ? Match::front : Match::none;
}

/// The elements of one target; returns where it ends.
std::uint64_t add_target(const Source& bytes, std::uint64_t at, std::uint64_t end, Firmware& out) {
  Bytes raw = read_exactly(bytes, at, kTargetSize, "target prefix");
  LittleFields f(raw, "target prefix", at);
  if (f.text(0, 6) != kTargetMagic)
    throw Malformed(fmt::format("target prefix at offset {}: expected \"Target\", found other bytes", at));
  std::string name = f.u32(7) != 0 ? field_text(f.bytes(11, 255)) : "";
  std::string folder = fmt::format("{}-{}", part_name(name, "target"), f.u8(6));
  std::uint64_t target_end = at + kTargetSize + f.u32(266);
  std::uint32_t elements = f.u32(270);
  if (elements > kMostElements)
    throw Malformed(fmt::format("target at offset {}: {} elements", at, elements));
  out.parts.push_back({.path = folder, .type = "target", .comment = name, .kind = EntryKind::folder});
  at += kTargetSize;
  for (std::uint32_t i = 0; i < elements && at + kElementSize <= end; ++i) {
    Bytes head = read_exactly(bytes, at, kElementSize, "element");
    LittleFields e(head, "element", at);
    out.parts.push_back({.path = fmt::format("{}/{:08x}.bin", folder, e.u32(0)),
                         .type = "element",
                         .at = at + kElementSize,
                         .size = e.u32(4),
                         .comment = "load " + hex_number(e.u32(0))});
    out.writes.push_back({fmt::format("{}, {}", name.empty() ? folder : name, hex_number(e.u32(0))), e.u32(4),
                          out.parts.back().path});
    at += kElementSize + e.u32(4);
  }
  if (at != target_end)
    out.warn(fmt::format("{}: its elements end at {}, the target states {}", escape(folder), at, target_end));
  return at;
}

ContainerPtr open_upgrade(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  if (bytes->size() < kSuffixSize) throw CutShort("the suffix of a device upgrade file is missing");
  std::uint64_t end = bytes->size() - kSuffixSize;
  Bytes tail = read_up_to(*bytes, end, kSuffixSize);
  Firmware out;
  if (has_suffix(tail)) {
    LittleFields f(tail, "suffix", end);
    auto id = [](std::uint16_t number) {
      return number == 0xFFFF ? std::string("any") : fmt::format("{:04x}", number);
    };
    out.facts = {
        {"for", fmt::format("vendor {}, product {}, device {}", id(f.u16(4)), id(f.u16(2)), id(f.u16(0)))},
        {"specification", fmt::format("{}.{:x}", f.u16(6) >> 8, f.u16(6) & 0xFF)}};
    if (std::uint32_t found = sum_of(bytes, end + 12); found != f.u32(12))
      out.fault(
          fmt::format("the file does not fit its checksum: expected {:08x}, found {:08x}", f.u32(12), found));
  } else {
    out.fault("the suffix with the checksum is missing: the file is cut short");
    end = bytes->size();
  }
  Bytes head = read_up_to(*bytes, 0, kPrefixSize);
  if (!starts_with(head, kPrefixMagic)) {
    out.parts.push_back({.path = "payload", .type = "firmware", .at = 0, .size = end});
    out.writes.push_back({"wherever the device puts it: this file does not say", end, "payload"});
    return make_firmware(std::move(bytes), std::move(out));
  }
  unsigned targets = LittleFields(head, "prefix").u8(10);
  std::uint64_t at = kPrefixSize;
  for (unsigned i = 0; i < targets; ++i) {
    try {
      at = add_target(*bytes, at, end, out);
    } catch (const Malformed& error) {
      out.fault(fmt::format("target {} of {}: {}", i + 1, targets, error.what()));
      break;
    }
  }
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format device_upgrade_format() {
  return {.id = "dfu",
          .name = "device firmware upgrade file",
          .family = "firmware",
          .specification = "USB Device Firmware Upgrade 1.1, appendix B; UM0391",
          .reads = "the suffix and its checksum, targets and elements of the extended form",
          .lacks = "",
          .suffixes = {".dfu"},
          .recognise = recognise_upgrade,
          .open = open_upgrade};
}

}  // namespace operculum
