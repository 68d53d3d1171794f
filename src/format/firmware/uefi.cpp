// Flash images, volumes and capsules of UEFI firmware (UEFI specification 2.10, section 23.2, for capsules;
// PI specification 1.8, volume 3, for volumes), and the descriptor of regions in front of flash images for
// Intel chipsets (their data sheets, "SPI flash descriptor").
#include <fmt/format.h>

#include "base/error.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "base/units.h"
#include "container/record_fields.h"
#include "format/firmware/formats.h"
#include "format/firmware/uefi_image.h"
#include "format/firmware/uefi_names.h"
#include "format/firmware/uefi_records.h"

namespace operculum {
namespace {

using namespace uefi;

constexpr std::uint32_t kDescriptorMark = 0x0FF0A55A;
constexpr std::uint64_t kLargestSearched = 64 << 20, kChipUnit = 64 << 10, kPage = 4096, kBlock = 1 << 20;
constexpr std::string_view kFmp = "6dcbd5ed-e82d-4c44-bda1-7194199ad92a";
constexpr std::string_view kCapsules[] = {kFmp, "3b8c8162-188c-46a4-aec9-be43f1d65697",
                                          "4a3ca68b-7723-48fb-803d-578cc1fec44d"};

// ---- the flash descriptor

struct ChipRegion {
  std::string_view name, what;
};
constexpr ChipRegion kRegions[] = {
    {"descriptor", "flash descriptor"},
    {"bios", "UEFI firmware"},
    {"me", "management engine"},
    {"gbe", "network configuration"},
    {"platform", "platform data"},
    {"devexp", "device expansion"},
    {"bios2", "second UEFI firmware"},
    {"microcode", "microcode"},
    {"ec", "embedded controller"},
    {"devexp2", "second device expansion"},
    {"ie", "innovation engine"},
    {"10gbe-a", "network"},
    {"10gbe-b", "network"},
    {"region-13", ""},
    {"region-14", ""},
    {"ptt", "platform trust"},
};

bool has_descriptor(ByteView head) {
  return head.size() >= 64 && read_structure<FlashDescriptor>(head.data()).FLVALSIG == kDescriptorMark;
}

void add_chip(const SourcePtr& bytes, OpenContext& context, Firmware& out) {
  Bytes head = read_exactly(*bytes, 0, 4096, "flash descriptor");
  LittleFields f(head, "flash descriptor");
  std::size_t table = structure_at<FlashDescriptor>(f, 0).region_table();
  out.facts.emplace_back("kind", "flash chip with a descriptor");
  for (std::size_t i = 0; i < std::size(kRegions) && table + i * 4 + 4 <= head.size(); ++i) {
    std::uint32_t row = f.u32(table + i * 4);
    std::uint64_t begin = std::uint64_t{row & 0x7FFF} << 12,
                  end = ((std::uint64_t{row >> 16 & 0x7FFF}) << 12) + kPage;
    if (begin >= end || row == 0 || row == UINT32_MAX) continue;
    if (end > bytes->size()) {
      out.fault(fmt::format("the region \"{}\" ends at {:#x}, the file at {:#x}: it is cut short",
                            kRegions[i].name, end, bytes->size()));
      if (begin >= bytes->size()) continue;
      end = bytes->size();
    }
    std::string name(kRegions[i].name);
    if (i == 1 || i == 6) {
      out.parts.push_back({.path = name,
                           .type = std::string(kRegions[i].what),
                           .at = begin,
                           .size = end - begin,
                           .kind = EntryKind::folder});
      add_region(bytes, begin, end - begin, name + "/", context, out);
    } else {
      out.parts.push_back({.path = name + ".region",
                           .type = std::string(kRegions[i].what),
                           .at = begin,
                           .size = end - begin});
    }
  }
}

// ---- capsules

std::optional<CapsuleHeader> capsule_of(ByteView head) {
  if (head.size() < size_on_disk<CapsuleHeader>) return std::nullopt;
  auto out = read_structure<CapsuleHeader>(head.data());
  bool known = std::any_of(std::begin(kCapsules), std::end(kCapsules),
                           [&](auto text) { return is(out.CapsuleGuid, text); });
  bool fits = out.HeaderSize >= size_on_disk<CapsuleHeader> && out.HeaderSize <= out.CapsuleImageSize;
  return known && fits ? std::optional(out) : std::nullopt;
}

/// Firmware management capsules (section 23.3): drivers, then payloads, whose places a table tells.
void add_managed(const Source& bytes, std::uint64_t base, std::uint64_t end, Firmware& out) {
  constexpr std::size_t head_size = size_on_disk<ManagedCapsule>, place_size = sizeof(std::uint64_t);
  auto capsule =
      read_structure<ManagedCapsule>(read_exactly(bytes, base, head_size, "capsule header").data());
  std::size_t drivers = capsule.EmbeddedDriverCount, items = drivers + capsule.PayloadItemCount;
  Bytes rows = read_exactly(bytes, base + head_size, items * place_size, "table of payloads");
  LittleFields r(rows, "table of payloads", base + head_size);
  for (std::size_t i = 0; i < items; ++i) {
    std::uint64_t at = base + r.u64(i * place_size);
    std::uint64_t next = i + 1 < items ? std::min(end, base + r.u64((i + 1) * place_size)) : end;
    if (at >= end || next < at) {
      out.fault(fmt::format("capsule: payload {} lies at {}, outside of it", i, at));
      continue;
    }
    if (i < drivers) {
      out.parts.push_back(
          {.path = fmt::format("driver-{}.efi", i), .type = "driver", .at = at, .size = next - at});
      continue;
    }
    auto payload = read_structure<ManagedPayload>(
        read_exactly(bytes, at, size_on_disk<ManagedPayload>, "payload header").data());
    std::uint64_t length = payload.size(), size = payload.UpdateImageSize,
                  vendor = payload.UpdateVendorCodeSize;
    std::string name = fmt::format("payload-{}", i - drivers);
    out.parts.push_back({.path = name + ".bin",
                         .type = "payload",
                         .at = at + length,
                         .size = size,
                         .comment = fmt::format("for {}, image {}", text_of(payload.UpdateImageTypeId),
                                                payload.UpdateImageIndex)});
    if (vendor > 0)
      out.parts.push_back(
          {.path = name + ".vendor", .type = "vendor code", .at = at + length + size, .size = vendor});
  }
}

void add_capsule(const SourcePtr& bytes, const CapsuleHeader& capsule, OpenContext& context, Firmware& out) {
  out.facts.emplace_back("kind", fmt::format("capsule for {}", name_or_text(capsule.CapsuleGuid)));
  std::string flags;
  for (auto [bit, word] : {std::pair{0x10000u, "kept across a reset"},
                           {0x20000u, "for the system table"},
                           {0x40000u, "starts a reset"}}) {
    if ((capsule.Flags & bit) != 0) flags += (flags.empty() ? "" : ", ") + std::string(word);
  }
  if (!flags.empty()) out.facts.emplace_back("flags", flags);
  std::uint64_t end = std::min<std::uint64_t>(capsule.CapsuleImageSize, bytes->size());
  if (end < capsule.CapsuleImageSize)
    out.fault(fmt::format("the capsule states {} bytes, the file has {}: it is cut short",
                          grouped(capsule.CapsuleImageSize), grouped(bytes->size())));
  if (is(capsule.CapsuleGuid, kFmp)) {
    add_managed(*bytes, capsule.HeaderSize, end, out);
  } else {
    add_region(bytes, capsule.HeaderSize, end - capsule.HeaderSize, "", context, out);
  }
  add_what_is_behind(*bytes, end, out);
}

// ---- what begins as none of them

bool holds_volumes(const Source& bytes) {
  for (std::uint64_t at = 0; at < bytes.size(); at += kBlock) {
    Bytes block = read_up_to(bytes, at, kBlock);
    for (std::size_t i = 0; i + 64 <= block.size(); i += kPage) {
      if (as_text(ByteView(block).subspan(i + 40, 4)) == "_FVH" && begins_volume(bytes, at + i)) return true;
    }
  }
  return false;
}

Match recognise_uefi(Probe& probe) {
  ByteView head = probe.head(64);
  if (head.size() < 64) return Match::none;
  SourcePtr bytes = probe.source();
  if (as_text(head.subspan(40, 4)) == "_FVH")
    return bytes && !begins_volume(*bytes, 0) ? Match::none : Match::front;
  if (has_descriptor(head) && probe.size().value_or(0) % kPage == 0) return Match::front;
  if (auto capsule = capsule_of(head)) return Match::front;
  // Dumps of chips have sizes of whole blocks; nothing else is searched.
  bool chip = bytes && bytes->size() % kChipUnit == 0 && bytes->size() <= kLargestSearched;
  return chip && holds_volumes(*bytes) ? Match::inside : Match::none;
}

ContainerPtr open_uefi(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes head = read_up_to(*bytes, 0, 64);
  Firmware out;
  if (has_descriptor(head)) {
    add_chip(bytes, context, out);
  } else if (auto capsule = capsule_of(head)) {
    add_capsule(bytes, *capsule, context, out);
  } else {
    add_region(bytes, 0, bytes->size(), "", context, out);
  }
  return make_firmware(std::move(bytes), std::move(out));
}

/// Where the file begins with a volume.
PlacedFields shown_volume(Probe& probe) {
  Bytes raw = probe.at(0, kVolumeHeader);
  bool there =
      raw.size() == kVolumeHeader && read_structure<VolumeHeader>(raw.data()).Signature == kSignature;
  return there ? fields_at<VolumeHeader>(probe, 0) : PlacedFields{};
}

}  // namespace

Format uefi_format() {
  return {
      .id = "uefi",
      .name = "UEFI firmware",
      .family = "firmware",
      .specification =
          "UEFI Platform Initialization specification 1.8, volume 3; UEFI specification 2.10, section 23",
      .reads =
          "volumes (FFS1 to FFS3), files, all section kinds, nested volumes; LZMA with and without x86 "
          "filter, "
          "Brotli, EFI and Tiano compression; checksums; capsules; variable stores; dependencies as text; "
          "TE images made to PE; regions of the flash descriptor",
      .lacks = "checking of signatures, variable stores of makers",
      .suffixes = {".fd", ".fv"},
      .recognise = recognise_uefi,
      .open = open_uefi,
      .records = {{"first volume", shown_volume}}};
}

}  // namespace operculum
