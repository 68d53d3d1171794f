#include "format/firmware/flash_map.h"

#include "base/fields.h"
#include "format/firmware/firmware_parts.h"

namespace operculum {
namespace {

constexpr std::string_view kMagic = "__FMAP__";
constexpr std::size_t kHeader = 56, kRow = 42, kBlock = 1 << 20, kMostAreas = 1024;

std::optional<FlashMap> map_at(const Source& bytes, std::uint64_t at) {
  Bytes raw = read_up_to(bytes, at, kHeader);
  if (raw.size() < kHeader) return std::nullopt;
  LittleFields f(raw, "flash map", at);
  FlashMap map{at, f.u64(10), f.u32(18), field_text(f.bytes(22, 32)), {}};
  std::size_t count = f.u16(54);
  if (f.u8(8) != 1 || count == 0 || count > kMostAreas || map.size == 0) return std::nullopt;
  Bytes rows = read_up_to(bytes, at + kHeader, count * kRow);
  if (rows.size() < count * kRow) return std::nullopt;
  LittleFields r(rows, "flash map", at + kHeader);
  for (std::size_t i = 0; i < count; ++i) {
    FlashArea area{field_text(r.bytes(i * kRow + 8, 32)), r.u32(i * kRow), r.u32(i * kRow + 4),
                   r.u16(i * kRow + 40)};
    if (area.at > map.size || area.size > map.size - area.at) return std::nullopt;
    map.areas.push_back(std::move(area));
  }
  return map;
}

}  // namespace

std::optional<FlashMap> find_flash_map(const Source& bytes) {
  for (std::uint64_t at = 0; at < bytes.size(); at += kBlock) {
    Bytes block = read_up_to(bytes, at, kBlock + kMagic.size());
    std::string_view text = as_text(block);
    for (std::size_t i = text.find(kMagic); i != std::string_view::npos; i = text.find(kMagic, i + 1)) {
      if (auto map = map_at(bytes, at + i)) return map;
    }
  }
  return std::nullopt;
}

}  // namespace operculum
