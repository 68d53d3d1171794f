#pragma once

#include "base/structure.h"

/// The headers of Linux kernel images, with the names of the kernel's documentation. Each lies at the front;
/// which it is its magic tells.
namespace operculum::kernel_image {

/// arch/x86/boot (The Linux/x86 Boot Protocol): within the boot sector and behind it. The set-up part has so
/// many sectors behind the first; then the code in protected mode, of which the packed kernel is a part from
/// protocol 2.08 on.
struct X86Header {
  std::uint8_t setup_sects = 0;
  std::uint16_t boot_flag = 0;
  std::array<Byte, 4> header{};
  std::uint16_t version = 0, kernel_version = 0, xloadflags = 0;
  std::uint32_t payload_offset = 0, payload_length = 0;
  static constexpr auto layout =
      little_endian(from_byte<0x1F1>(), field("setup_sects", &X86Header::setup_sects), from_byte<0x1FE>(),
                    field("boot_flag", &X86Header::boot_flag), from_byte<0x202>(),
                    field("header", &X86Header::header), field("version", &X86Header::version),
                    from_byte<0x20E>(), field("kernel_version", &X86Header::kernel_version),
                    from_byte<0x236>(), field("xloadflags", &X86Header::xloadflags), from_byte<0x248>(),
                    field("payload_offset", &X86Header::payload_offset),
                    field("payload_length", &X86Header::payload_length));
};
constexpr std::uint16_t kBootFlag = 0xAA55, kLeastProtocol = 0x200, kPayloadProtocol = 0x208,
                        kFlagsProtocol = 0x20C;
constexpr std::string_view kX86Magic = "HdrS";
constexpr std::uint16_t kXlf64 = 1;  // of xloadflags: there is an entry for 64 bits

/// arch/arm/boot/compressed/head.S.
struct ArmHeader {
  std::uint32_t magic = 0, start = 0, end = 0;
  static constexpr auto layout =
      little_endian(from_byte<36>(), field("magic", &ArmHeader::magic), field("start", &ArmHeader::start),
                    field("end", &ArmHeader::end));
};
constexpr std::uint32_t kArmMagic = 0x016F2818;

/// Booting AArch64 Linux, and Boot image header in RISC-V Linux: their fields lie alike.
struct PlainHeader {
  std::uint64_t text_offset = 0, image_size = 0, flags = 0;
  std::array<Byte, 5> riscv_magic{};
  std::array<Byte, 4> magic{};
  static constexpr auto layout = little_endian(
      from_byte<8>(), field("text_offset", &PlainHeader::text_offset),
      field("image_size", &PlainHeader::image_size), field("flags", &PlainHeader::flags), from_byte<48>(),
      field("magic", &PlainHeader::riscv_magic), from_byte<56>(), field("magic2", &PlainHeader::magic));
};
constexpr std::string_view kArm64Magic = "ARM\x64", kRiscvMagic = "RISCV", kRiscvMagic2 = "RSC\x05";

/// drivers/firmware/efi/libstub/zboot-header.S.
struct ZbootHeader {
  std::array<Byte, 2> mz{};
  std::array<Byte, 4> magic{};
  std::uint32_t payload_offset = 0, payload_size = 0;
  std::array<Byte, 32> compression{};
  static constexpr auto layout =
      little_endian(field("MZ", &ZbootHeader::mz), from_byte<4>(), field("zimg", &ZbootHeader::magic),
                    field("payload offset", &ZbootHeader::payload_offset),
                    field("payload size", &ZbootHeader::payload_size), from_byte<24>(),
                    field("compression type", &ZbootHeader::compression));
};

}  // namespace operculum::kernel_image
