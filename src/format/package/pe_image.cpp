#include "format/package/pe_image.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "format/package/pe_records.h"

namespace operculum::pe {
namespace {

constexpr std::size_t kMostDirectories = 16;

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

std::optional<std::uint64_t> headers_at(ByteView head) {
  if (head.size() < size_on_disk<DosHeader> || !starts_with(head, "MZ")) return std::nullopt;
  return read_field(&DosHeader::e_lfanew, head.data());
}

namespace {

void read_directories(const LittleFields& optional, Image& image) {
  std::size_t first = image.wide ? kWideDirectoriesAt : kNarrowDirectoriesAt;
  if (optional.size() < first) return;
  std::size_t stated = optional.u32(first - sizeof(std::uint32_t)), step = size_on_disk<DirectoryRecord>;
  std::size_t count = std::min({stated, kMostDirectories, (optional.size() - first) / step});
  for (std::size_t i = 0; i < count; ++i) {
    auto one = structure_at<DirectoryRecord>(optional, first + i * step);
    image.directories.push_back({one.VirtualAddress, one.Size});
  }
}

Section read_section(const SectionHeader& row, std::uint64_t file_size) {
  Section section;
  section.name = until_zero(as_text(row.Name));
  section.virtual_size = row.VirtualSize;
  section.address = row.VirtualAddress;
  section.at = row.PointerToRawData;
  section.size =
      section.at >= file_size ? 0 : std::min<std::uint64_t>(row.SizeOfRawData, file_size - section.at);
  return section;
}

}  // namespace

std::optional<Image> read_image(const Source& bytes) {
  auto at = headers_at(read_up_to(bytes, 0, size_on_disk<DosHeader>));
  if (!at) return std::nullopt;
  constexpr std::size_t head_size = size_on_disk<FileHeader>;
  Bytes raw = read_up_to(bytes, *at, head_size);
  if (raw.size() < head_size) return std::nullopt;
  auto head = read_structure<FileHeader>(raw.data());
  if (as_text(head.Signature) != std::string_view("PE\0\0", 4)) return std::nullopt;
  Bytes optional = read_up_to(bytes, *at + head_size, head.SizeOfOptionalHeader);
  if (optional.size() < size_on_disk<OptionalHeader>) return std::nullopt;
  LittleFields fields(optional, "PE optional header", *at + head_size);
  auto common = structure_at<OptionalHeader>(fields, 0);
  if (common.Magic != kNarrowMagic && common.Magic != kWideMagic) return std::nullopt;
  Image image;
  image.machine = head.Machine;
  image.characteristics = head.Characteristics;
  image.wide = common.Magic == kWideMagic;
  image.subsystem = common.Subsystem;
  read_directories(fields, image);
  std::uint64_t table_at = *at + head_size + head.SizeOfOptionalHeader;
  constexpr std::size_t step = size_on_disk<SectionHeader>;
  Bytes table = read_exactly(bytes, table_at, head.NumberOfSections * step, "PE section table");
  image.end = image.stated_end = table_at + table.size();
  for (std::size_t i = 0; i < table.size(); i += step) {
    auto row = read_structure<SectionHeader>(table.data() + i);
    Section section = read_section(row, bytes.size());
    if (row.SizeOfRawData != 0) image.stated_end = std::max(image.stated_end, section.at + row.SizeOfRawData);
    if (section.size != 0) image.end = std::max(image.end, section.at + section.size);
    image.sections.push_back(std::move(section));
  }
  if (image.directories.size() > certificates_directory) {
    const Directory& signature =
        image.directories[certificates_directory];  // its address is an offset in the file
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
