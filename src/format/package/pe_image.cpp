#include "format/package/pe_image.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/fields.h"

namespace operculum::pe {
namespace {

constexpr std::size_t kDosHeader = 64, kCoffHeader = 24, kSectionHeader = 40, kMostDirectories = 16;
constexpr std::uint16_t kNarrowMagic = 0x10B, kWideMagic = 0x20B;

struct Machine {
  std::uint16_t number;
  std::string_view name;
};
constexpr Machine kMachines[] = {{0x014C, "x86"},           {0x8664, "x86-64"},    {0xAA64, "ARM64"},
                                 {0x01C0, "ARM"},           {0x01C4, "ARM"},       {0x0200, "Itanium"},
                                 {0x0EBC, "EFI byte code"}, {0x5064, "RISC-V 64"}, {0x6264, "LoongArch 64"}};

}  // namespace

std::optional<std::pair<std::uint64_t, std::uint64_t>> Image::locate(std::uint32_t address) const {
  for (const Section& section : sections) {
    if (address < section.address || address - section.address >= section.size) continue;
    std::uint64_t within = address - section.address;
    return std::pair{section.at + within, section.size - within};
  }
  return std::nullopt;
}

std::optional<Image> read_image(const Source& bytes) {
  Bytes dos = read_up_to(bytes, 0, kDosHeader);
  if (dos.size() < kDosHeader || !starts_with(dos, "MZ")) return std::nullopt;
  std::uint64_t at = LittleFields(dos, "DOS header").u32(60);
  Bytes coff = read_up_to(bytes, at, kCoffHeader);
  if (coff.size() < kCoffHeader || !starts_with(coff, std::string_view("PE\0\0", 4))) return std::nullopt;
  LittleFields c(coff, "PE header", at);
  Image image;
  image.machine = c.u16(4);
  std::size_t sections = c.u16(6), optional_size = c.u16(20);
  image.characteristics = c.u16(22);
  Bytes optional = read_up_to(bytes, at + kCoffHeader, optional_size);
  LittleFields o(optional, "PE optional header", at + kCoffHeader);
  if (optional.size() < 70) return std::nullopt;
  std::uint16_t magic = o.u16(0);
  if (magic != kNarrowMagic && magic != kWideMagic) return std::nullopt;
  image.wide = magic == kWideMagic;
  image.subsystem = o.u16(68);
  std::size_t first = image.wide ? 112 : 96;
  if (optional.size() >= first) {
    std::size_t count =
        std::min<std::size_t>({o.u32(first - 4), kMostDirectories, (optional.size() - first) / 8});
    for (std::size_t i = 0; i < count; ++i)
      image.directories.push_back({o.u32(first + i * 8), o.u32(first + i * 8 + 4)});
  }
  std::uint64_t table_at = at + kCoffHeader + optional_size;
  Bytes table = read_exactly(bytes, table_at, sections * kSectionHeader, "PE section table");
  LittleFields t(table, "PE section table", table_at);
  image.end = image.stated_end = table_at + table.size();
  for (std::size_t i = 0; i < sections; ++i) {
    LittleFields s = t.from(i * kSectionHeader);
    Section section;
    section.name = s.text(0, 8);
    section.name.resize(std::min(section.name.size(), section.name.find('\0')));
    section.virtual_size = s.u32(8);
    section.address = s.u32(12);
    section.at = s.u32(20);
    std::uint64_t stated = s.u32(16);
    if (stated != 0) image.stated_end = std::max(image.stated_end, section.at + stated);
    section.size = section.at >= bytes.size() ? 0 : std::min(stated, bytes.size() - section.at);
    if (section.size != 0) image.end = std::max(image.end, section.at + section.size);
    image.sections.push_back(std::move(section));
  }
  if (image.directories.size() > kCertificates) {
    const Directory& signature = image.directories[kCertificates];  // its address is an offset in the file
    if (signature.size != 0 && signature.address < bytes.size()) {
      image.signature_at = signature.address;
      image.signature_size = std::min<std::uint64_t>(signature.size, bytes.size() - signature.address);
    }
  }
  return image;
}

std::string machine_name(std::uint16_t machine) {
  auto known = std::find_if(std::begin(kMachines), std::end(kMachines),
                            [&](const Machine& one) { return one.number == machine; });
  return known == std::end(kMachines) ? fmt::format("machine {:#06x}", machine) : std::string(known->name);
}

}  // namespace operculum::pe
