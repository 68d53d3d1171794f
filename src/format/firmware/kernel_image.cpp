// Linux kernel images that unpack themselves or are loaded as they are, each after the kernel's
// documentation: x86 (arch/x86/boot, protocol 2.00 on: a set-up part whose header tells where the packed
// kernel lies), ARM zImage (numbers at offset 36), ARM64 and RISC-V Image (arch/arm64/booting,
// arch/riscv/boot-image-header), and the EFI zboot form (drivers/firmware/efi/libstub/zboot-header.S: where
// the payload lies and how it is packed).
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "container/embedded.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/kernel_records.h"

namespace operculum {
namespace {

using namespace kernel_image;

constexpr std::size_t kHeadSize = 1024;
constexpr std::uint64_t kArmHeader = 48, kPlainHeader = 64;  // bytes
constexpr std::uint64_t kSector = 512, kLongestVersion = 256;

enum class Kind { none, x86, arm, arm64, riscv, zboot };

Kind kind_of(ByteView head) {
  if (head.size() < 64) return Kind::none;
  auto zboot = read_structure<ZbootHeader>(head.data());
  if (as_text(zboot.mz) == "MZ" && as_text(zboot.magic) == "zimg") return Kind::zboot;
  auto plain = read_structure<PlainHeader>(head.data());
  if (as_text(plain.magic) == kArm64Magic) return Kind::arm64;
  if (as_text(plain.magic) == kRiscvMagic2 && as_text(plain.riscv_magic) == kRiscvMagic) return Kind::riscv;
  auto arm = read_structure<ArmHeader>(head.data());
  if (arm.magic == kArmMagic && arm.end > arm.start) return Kind::arm;
  if (head.size() < kHeadSize) return Kind::none;
  auto x86 = read_structure<X86Header>(head.data());
  bool fits = x86.boot_flag == kBootFlag && as_text(x86.header) == kX86Magic && x86.version >= kLeastProtocol;
  return fits ? Kind::x86 : Kind::none;
}

/// "6.1.0 (builder@place) #1 ...", at a place in the set-up part.
std::string version_at(const Source& bytes, std::uint64_t at) {
  return field_text(read_up_to(bytes, at, kLongestVersion));
}

/// Of a zImage, from where it begins to where it ends, as its header tells; in bytes.
std::uint32_t arm_size(ByteView head) {
  auto header = read_structure<ArmHeader>(head.data());
  return header.end - header.start;
}

/// Of the part in real mode, with the boot sector, in bytes; 4 sectors where none are stated.
std::uint64_t setup_size(ByteView head) {
  unsigned stated = read_field(&X86Header::setup_sects, head.data());
  return ((stated == 0 ? 4 : stated) + 1) * kSector;
}

void read_x86(const SourcePtr& bytes, ByteView head, Firmware& out) {
  auto header = read_structure<X86Header>(head.data());
  std::uint64_t system = setup_size(head), protocol = header.version;
  bool wide = protocol >= kFlagsProtocol && (header.xloadflags & kXlf64) != 0;
  out.facts.emplace_back("processor", wide ? "x86-64" : "x86");
  out.facts.emplace_back("boot protocol", fmt::format("{}.{:02}", protocol >> 8, protocol & 0xFF));
  if (header.kernel_version != 0)
    out.facts.emplace_back("version", version_at(*bytes, header.kernel_version + kSector));
  out.parts.push_back({.path = "setup", .type = "set-up code", .size = system});
  std::uint64_t rest = bytes->size() - std::min(system, bytes->size());
  if (protocol < kPayloadProtocol) {
    out.parts.push_back(
        {.path = "system", .type = "packed kernel with its unpacker", .at = system, .size = rest});
    return;
  }
  std::uint64_t at = header.payload_offset, size = header.payload_length;
  if (at > rest || size > rest - at) {
    out.fault(fmt::format("the packed kernel goes to {}, the file ends at {}: it is cut short",
                          system + at + size, bytes->size()));
    size = rest - std::min(at, rest);
  }
  // All but gzip get the unpacked size put behind them in 4 bytes; gzip ends with it.
  Bytes mark = read_up_to(*bytes, system + at, 2);
  std::uint64_t packed = mark == Bytes{0x1F, 0x8B} || size < 4 ? size : size - 4;
  out.parts.push_back({.path = "unpacker-head", .type = "code", .at = system, .size = at});
  out.parts.push_back({.path = "kernel", .type = "kernel", .at = system + at, .size = packed});
  std::uint64_t behind = system + at + size;
  if (behind < bytes->size())
    out.parts.push_back({.path = "unpacker", .type = "code", .at = behind, .size = bytes->size() - behind});
}

/// The packed kernel within the code of an unpacker: the first packed stream that really decodes.
void read_arm(const SourcePtr& bytes, ByteView head, OpenContext& context, Firmware& out) {
  std::uint64_t size =
      std::clamp<std::uint64_t>(arm_size(head), kArmHeader, std::max(bytes->size(), kArmHeader));
  out.facts.emplace_back("processor", "ARM");
  std::vector<Embedded> found = find_embedded(bytes, kArmHeader, size - kArmHeader, context, {.most = 1});
  if (found.empty()) {
    out.parts.push_back({.path = "header", .type = "header", .size = kArmHeader});
    out.parts.push_back({.path = "code", .type = "kernel", .at = kArmHeader, .size = size - kArmHeader});
  } else {
    out.parts.push_back({.path = "unpacker", .type = "code", .size = found[0].at});
    out.parts.push_back({.path = "kernel", .type = "kernel", .at = found[0].at, .size = size - found[0].at});
  }
  add_what_is_behind(*bytes, size, out);
}

/// What is not packed at all: the header tells only where it is to lie in memory.
void read_plain(const SourcePtr& bytes, ByteView head, Kind kind, Firmware& out) {
  auto header = read_structure<PlainHeader>(head.data());
  out.facts.emplace_back("processor", kind == Kind::arm64 ? "ARM64" : "RISC-V");
  out.facts.emplace_back("text offset", hex_number(header.text_offset));
  out.facts.emplace_back("size in memory", fmt::format("{} bytes", header.image_size));
  if (kind == Kind::arm64) {
    constexpr std::string_view kPages[] = {"not told", "4 KiB", "16 KiB", "64 KiB"};
    out.facts.emplace_back("byte order", (header.flags & 1) != 0 ? "big-endian" : "little-endian");
    out.facts.emplace_back("pages", std::string(kPages[header.flags >> 1 & 3]));
  }
  out.parts.push_back({.path = "header", .type = "header", .size = kPlainHeader});
  out.parts.push_back(
      {.path = "code", .type = "kernel", .at = kPlainHeader, .size = bytes->size() - kPlainHeader});
}

void read_zboot(ByteView head, Firmware& out) {
  auto header = read_structure<ZbootHeader>(head.data());
  std::uint64_t at = header.payload_offset, size = header.payload_size;
  std::string packing = field_text(header.compression);
  out.facts.emplace_back("packed by", packing);
  std::uint64_t tail = packing == "gzip" || size < 4 ? 0 : 4;  // the unpacked size, as in x86 images
  out.parts.push_back({.path = "unpacker", .type = "EFI program", .size = at});
  out.parts.push_back({.path = "kernel", .type = "kernel", .at = at, .size = size - tail});
}

Match recognise_kernel(Probe& probe) {
  ByteView head = probe.head(kHeadSize);
  Kind kind = kind_of(head);
  if (kind == Kind::none) return Match::none;
  // Parts of an image begin as the image does: the set-up part of x86, the unpacker of ARM.
  if (kind == Kind::x86 && probe.size() == setup_size(head)) return Match::none;
  if (kind == Kind::arm && probe.size().value_or(UINT64_MAX) < arm_size(head)) return Match::none;
  if (kind != Kind::zboot) return Match::front;
  auto header = read_structure<ZbootHeader>(head.data());
  bool fits = header.payload_offset > 0 && header.payload_size > 0 &&
              probe.size().value_or(UINT64_MAX) >= std::uint64_t{header.payload_offset} + header.payload_size;
  return fits ? Match::front : Match::none;
}

ContainerPtr open_kernel(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes head = read_up_to(*bytes, 0, kHeadSize);
  Firmware out;
  Kind kind = kind_of(head);
  if (kind == Kind::x86) read_x86(bytes, head, out);
  if (kind == Kind::arm) read_arm(bytes, head, context, out);
  if (kind == Kind::arm64 || kind == Kind::riscv) read_plain(bytes, head, kind, out);
  if (kind == Kind::zboot) read_zboot(head, out);
  if (kind == Kind::none) throw Malformed("kernel image: its header is of no known kind");
  return make_firmware(std::move(bytes), std::move(out));
}

PlacedFields shown_header(Probe& probe) {
  switch (kind_of(probe.head(kHeadSize))) {
    case Kind::zboot:
      return fields_at<ZbootHeader>(probe, 0);
    case Kind::arm64:
    case Kind::riscv:
      return fields_at<PlainHeader>(probe, 0);
    case Kind::arm:
      return fields_at<ArmHeader>(probe, 0);
    case Kind::x86:
      return fields_at<X86Header>(probe, 0);
    case Kind::none:
      break;
  }
  return {};
}

}  // namespace

Format kernel_format() {
  return {.id = "kernel",
          .name = "Linux kernel image",
          .family = "firmware",
          .specification =
              "Linux kernel documentation: x86 boot protocol 2.15, arm64/booting, riscv/boot-image-header",
          .reads = "x86 with its packed kernel, ARM zImage, ARM64 and RISC-V Image, EFI zboot",
          .lacks = "the packed kernel of x86 images before protocol 2.08 by itself",
          .suffixes = {},
          .recognise = recognise_kernel,
          .open = open_kernel,
          .records = {{"header", shown_header}}};
}

}  // namespace operculum
