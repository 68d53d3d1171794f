#include "format/firmware/boot_names.h"

#include "format/firmware/firmware_parts.h"

namespace operculum {
namespace {

constexpr NamedNumber kSystems[] = {
    {1, "OpenBSD"},
    {2, "NetBSD"},
    {3, "FreeBSD"},
    {4, "4.4BSD"},
    {5, "Linux"},
    {6, "SVR4"},
    {7, "Esix"},
    {8, "Solaris"},
    {9, "Irix"},
    {10, "SCO"},
    {11, "Dell"},
    {12, "NCR"},
    {13, "LynxOS"},
    {14, "VxWorks"},
    {15, "pSOS"},
    {16, "QNX"},
    {17, "firmware"},
    {18, "RTEMS"},
    {19, "ARTOS"},
    {20, "Unity"},
    {21, "INTEGRITY"},
    {22, "OSE"},
    {23, "Plan 9"},
    {24, "OpenRTOS"},
    {25, "trusted firmware"},
    {26, "trusted execution environment"},
    {27, "supervisor firmware (SBI)"},
    {28, "EFI"},
};
constexpr NamedNumber kArchitectures[] = {
    {1, "Alpha"},    {2, "ARM"},         {3, "x86"},       {4, "IA-64"},     {5, "MIPS"},     {6, "MIPS64"},
    {7, "PowerPC"},  {8, "S/390"},       {9, "SuperH"},    {10, "SPARC"},    {11, "SPARC64"}, {12, "M68K"},
    {13, "NIOS"},    {14, "MicroBlaze"}, {15, "NIOS II"},  {16, "Blackfin"}, {17, "AVR32"},   {18, "ST200"},
    {19, "sandbox"}, {20, "NDS32"},      {21, "OpenRISC"}, {22, "ARM64"},    {23, "ARC"},     {24, "x86-64"},
    {25, "Xtensa"},  {26, "RISC-V"},
};
constexpr NamedNumber kTypes[] = {
    {1, "standalone program"},
    {2, "kernel"},
    {3, "ramdisk"},
    {4, "multi-file image"},
    {5, "firmware"},
    {6, "script"},
    {7, "file system"},
    {8, "device tree"},
    {9, "kirkwood image"},
    {10, "i.MX image"},
    {11, "UBL image"},
    {12, "OMAP image"},
    {13, "AIS image"},
    {14, "kernel without a load address"},
    {15, "PBL image"},
    {20, "GP header"},
    {22, "RK image"},
    {27, "loadable"},
    {28, "boot program"},
};
constexpr NamedNumber kPackings[] = {{0, "not packed"},     {1, "packed by gzip"}, {2, "packed by bzip2"},
                                     {3, "packed by LZMA"}, {4, "packed by LZO"},  {5, "packed by LZ4"},
                                     {6, "packed by zstd"}};

}  // namespace

std::string boot_os_name(std::uint8_t os) {
  return name_in(kSystems, os, "system");
}
std::string boot_arch_name(std::uint8_t arch) {
  return name_in(kArchitectures, arch, "processor");
}
std::string boot_type_name(std::uint8_t type) {
  return name_in(kTypes, type, "type");
}
std::string boot_comp_name(std::uint8_t comp) {
  return name_in(kPackings, comp, "packing");
}

}  // namespace operculum
