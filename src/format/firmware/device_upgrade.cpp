// Files for device firmware upgrade over USB: any file with the suffix of 16 bytes that the Universal Serial
// Bus Device Class Specification for Device Firmware Upgrade (revision 1.1, appendix B) puts behind it, and
// the extension by STMicroelectronics (UM0391), which holds several targets of elements with addresses. The
// CRC-32 is taken over all but itself and is not inverted at the end.
#include <fmt/format.h>

#include "base/checksum.h"
#include "base/error.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "io/digest.h"

namespace operculum {
namespace {

constexpr std::string_view kSuffixMagic = "UFD", kPrefixMagic = "DfuSe", kTargetMagic = "Target";

/// DFU 1.1, table B-1; version numbers are of decimal digits.
struct UpgradeSuffix {
  std::uint16_t device = 0, product = 0, vendor = 0, specification = 0;
  std::array<Byte, 3> signature{};
  std::uint8_t length = 0;
  std::uint32_t crc = 0;
  static constexpr auto layout =
      little_endian(field("bcdDevice", &UpgradeSuffix::device), field("idProduct", &UpgradeSuffix::product),
                    field("idVendor", &UpgradeSuffix::vendor), field("bcdDFU", &UpgradeSuffix::specification),
                    field("ucDfuSignature", &UpgradeSuffix::signature),
                    field("bLength", &UpgradeSuffix::length), field("dwCRC", &UpgradeSuffix::crc));
};

/// UM0391, 2.1 to 2.3.
struct UpgradePrefix {
  std::array<Byte, 5> signature{};
  std::uint8_t version = 0;
  std::uint32_t image_size = 0;
  std::uint8_t targets = 0;
  static constexpr auto layout = little_endian(
      field("szSignature", &UpgradePrefix::signature), field("bVersion", &UpgradePrefix::version),
      field("DFUImageSize", &UpgradePrefix::image_size), field("bTargets", &UpgradePrefix::targets));
};
struct TargetPrefix {
  std::array<Byte, 6> signature{};
  std::uint8_t setting = 0;
  std::uint32_t named = 0;
  std::array<Byte, 255> name{};
  std::uint32_t size = 0, elements = 0;
  static constexpr auto layout = little_endian(
      field("szSignature", &TargetPrefix::signature), field("bAlternateSetting", &TargetPrefix::setting),
      field("bTargetNamed", &TargetPrefix::named), field("szTargetName", &TargetPrefix::name),
      field("dwTargetSize", &TargetPrefix::size), field("dwNbElements", &TargetPrefix::elements));
};
struct TargetElement {
  std::uint32_t address = 0, size = 0;
  static constexpr auto layout = little_endian(field("dwElementAddress", &TargetElement::address),
                                               field("dwElementSize", &TargetElement::size));
};

constexpr std::size_t kSuffixSize = size_on_disk<UpgradeSuffix>, kPrefixSize = size_on_disk<UpgradePrefix>,
                      kTargetSize = size_on_disk<TargetPrefix>, kElementSize = size_on_disk<TargetElement>;
constexpr std::size_t kCrcSize = sizeof UpgradeSuffix::crc;
constexpr std::uint32_t kMostElements = 100'000;
constexpr std::uint64_t kLargest = 256 << 20;  // bytes whose checksum is computed to recognise them

/// Without the inversion at the end.
std::uint32_t sum_of(const SourcePtr& bytes, std::uint64_t size) {
  StreamPtr stream = make_source_stream(bytes, 0, size);
  return ~sums_of_stream(*stream, Sums::crc32, [](std::uint64_t) {}).crc32.value_or(0);
}

std::optional<UpgradeSuffix> suffix_of(ByteView tail) {
  if (tail.size() < kSuffixSize) return std::nullopt;
  auto suffix = read_structure<UpgradeSuffix>(tail.last(kSuffixSize).data());
  bool fits = as_text(suffix.signature) == kSuffixMagic && suffix.length == kSuffixSize;
  return fits ? std::optional(suffix) : std::nullopt;
}

Match recognise_upgrade(Probe& probe) {
  ByteView head = probe.head(kPrefixSize);
  if (starts_with(head, kPrefixMagic) && head.size() == kPrefixSize &&
      read_structure<UpgradePrefix>(head.data()).version == 1)
    return Match::front;
  auto suffix = suffix_of(probe.tail(kSuffixSize));
  if (!suffix || !probe.source()) return Match::none;
  std::uint64_t size = probe.source()->size();
  bool fits = size <= kLargest && sum_of(probe.source(), size - kCrcSize) == suffix->crc;
  return fits ? Match::front : Match::none;
}

/// The elements of one target; returns where it ends.
std::uint64_t add_target(const Source& bytes, std::uint64_t at, std::uint64_t end, Firmware& out) {
  Bytes raw = read_exactly(bytes, at, kTargetSize, "target prefix");
  auto target = read_structure<TargetPrefix>(raw.data());
  if (as_text(target.signature) != kTargetMagic)
    throw Malformed(fmt::format("target prefix at offset {}: expected \"Target\", found other bytes", at));
  std::string name = target.named != 0 ? field_text(target.name) : "";
  std::string folder = fmt::format("{}-{}", part_name(name, "target"), target.setting);
  std::uint64_t target_end = at + kTargetSize + target.size;
  std::uint32_t elements = target.elements;
  if (elements > kMostElements)
    throw Malformed(fmt::format("target at offset {}: {} elements", at, elements));
  out.parts.push_back({.path = folder, .type = "target", .comment = name, .kind = EntryKind::folder});
  at += kTargetSize;
  for (std::uint32_t i = 0; i < elements && at + kElementSize <= end; ++i) {
    auto element = read_structure<TargetElement>(read_exactly(bytes, at, kElementSize, "element").data());
    out.parts.push_back({.path = fmt::format("{}/{:08x}.bin", folder, element.address),
                         .type = "element",
                         .at = at + kElementSize,
                         .size = element.size,
                         .comment = "load " + hex_number(element.address)});
    out.writes.push_back({fmt::format("{}, {}", name.empty() ? folder : name, hex_number(element.address)),
                          element.size, out.parts.back().path});
    at += kElementSize + element.size;
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
  if (auto suffix = suffix_of(tail)) {
    auto id = [](std::uint16_t number) {
      return number == 0xFFFF ? std::string("any") : fmt::format("{:04x}", number);
    };
    out.facts = {
        {"for", fmt::format("vendor {}, product {}, device {}", id(suffix->vendor), id(suffix->product),
                            id(suffix->device))},
        {"specification", fmt::format("{}.{:x}", suffix->specification >> 8, suffix->specification & 0xFF)}};
    if (std::uint32_t found = sum_of(bytes, end + kSuffixSize - kCrcSize); !sum_fits(found, suffix->crc))
      out.fault(fmt::format("the file does not fit its checksum: expected {:08x}, found {:08x}", suffix->crc,
                            found));
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
  unsigned targets = structure_in<UpgradePrefix>(head, "prefix").targets;
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
          .open = open_upgrade,
          .records = {record_at_end<UpgradeSuffix>("suffix")}};
}

}  // namespace operculum
