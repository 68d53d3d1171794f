#include "format/firmware/uefi_te.h"

#include <algorithm>

#include "base/structure.h"

namespace operculum::uefi {
namespace {

struct TeHeader {
  std::uint16_t Signature = 0, Machine = 0;
  std::uint8_t NumberOfSections = 0, Subsystem = 0;
  std::uint16_t StrippedSize = 0;
  std::uint32_t AddressOfEntryPoint = 0, BaseOfCode = 0;
  std::uint64_t ImageBase = 0;
  std::uint32_t relocation_at = 0, relocation_size = 0, debug_at = 0, debug_size = 0;
  static constexpr auto layout =
      little_endian(field("Signature", &TeHeader::Signature), field("Machine", &TeHeader::Machine),
                    field("NumberOfSections", &TeHeader::NumberOfSections),
                    field("Subsystem", &TeHeader::Subsystem), field("StrippedSize", &TeHeader::StrippedSize),
                    field("AddressOfEntryPoint", &TeHeader::AddressOfEntryPoint),
                    field("BaseOfCode", &TeHeader::BaseOfCode), field("ImageBase", &TeHeader::ImageBase),
                    field("DataDirectory[0].VirtualAddress", &TeHeader::relocation_at),
                    field("DataDirectory[0].Size", &TeHeader::relocation_size),
                    field("DataDirectory[1].VirtualAddress", &TeHeader::debug_at),
                    field("DataDirectory[1].Size", &TeHeader::debug_size));
};
constexpr std::size_t kTeSize = size_on_disk<TeHeader>;
constexpr std::size_t kDosSize = 64, kCoffHeader = 24, kSectionSize = 40;
constexpr std::size_t kOptional32 = 224, kOptional64 = 240;
constexpr std::uint32_t kAlignment = 32;

bool is_wide(std::uint16_t machine) {
  constexpr std::uint16_t kWide[] = {0x8664, 0xAA64, 0x0200, 0x5064, 0x6264, 0x0EBC};
  return std::find(std::begin(kWide), std::end(kWide), machine) != std::end(kWide);
}

/// Numbers put into bytes at places; what is not put stays zero.
class Writer {
 public:
  explicit Writer(Byte* at) : at_(at) {}
  void put(std::size_t place, std::uint64_t value, std::size_t width) {
    store_number(at_ + place, width, value);
  }

 private:
  Byte* at_;
};

/// The end of the last section in memory (PE/COFF specification, section table).
std::uint32_t image_size(ByteView te, std::size_t sections) {
  std::uint32_t end = 0;
  for (std::size_t i = 0; i < sections; ++i) {
    const Byte* row = te.data() + kTeSize + i * kSectionSize;
    end =
        std::max(end, load_little<std::uint32_t>(row + 12) + std::max(load_little<std::uint32_t>(row + 8),
                                                                      load_little<std::uint32_t>(row + 16)));
  }
  return (end + kAlignment - 1) / kAlignment * kAlignment;
}

}  // namespace

std::optional<Bytes> rebuild_te(ByteView te) {
  if (te.size() < kTeSize || te[0] != 'V' || te[1] != 'Z') return std::nullopt;
  auto header = read_structure<TeHeader>(te.data());
  bool wide = is_wide(header.Machine);
  std::size_t optional = wide ? kOptional64 : kOptional32, stripped = header.StrippedSize;
  bool fits = stripped >= kDosSize + kCoffHeader + optional &&
              te.size() >= kTeSize + header.NumberOfSections * kSectionSize;
  if (!fits) return std::nullopt;
  Bytes out(stripped);
  std::size_t pe = stripped - optional - kCoffHeader;
  Writer dos(out.data()), file(out.data() + pe), extra(out.data() + pe + kCoffHeader);
  dos.put(0, 0x5A4D, 2);
  dos.put(60, pe, 4);
  file.put(0, 0x4550, 4);
  file.put(4, header.Machine, 2);
  file.put(6, header.NumberOfSections, 2);
  file.put(20, optional, 2);
  file.put(22, header.relocation_size == 0 ? 0x0F : 0x0E, 2);
  extra.put(0, wide ? 0x20B : 0x10B, 2);
  extra.put(16, header.AddressOfEntryPoint, 4);
  extra.put(20, header.BaseOfCode, 4);
  extra.put(wide ? 24 : 28, header.ImageBase, wide ? 8 : 4);
  extra.put(32, kAlignment, 4);
  extra.put(36, kAlignment, 4);
  extra.put(56, image_size(te, header.NumberOfSections), 4);
  extra.put(60, stripped + header.NumberOfSections * kSectionSize, 4);
  extra.put(68, header.Subsystem, 2);
  std::size_t directories = wide ? 108 : 92;
  extra.put(directories, 16, 4);
  extra.put(directories + 4 + 5 * 8, header.relocation_at, 4);
  extra.put(directories + 8 + 5 * 8, header.relocation_size, 4);
  extra.put(directories + 4 + 6 * 8, header.debug_at, 4);
  extra.put(directories + 8 + 6 * 8, header.debug_size, 4);
  out.insert(out.end(), te.begin() + kTeSize, te.end());
  return out;
}

}  // namespace operculum::uefi
