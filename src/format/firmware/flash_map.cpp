#include "format/firmware/flash_map.h"

#include "base/structure.h"
#include "format/firmware/firmware_parts.h"

namespace operculum {
namespace {

constexpr std::string_view kMagic = "__FMAP__";
constexpr std::size_t kBlock = 1 << 20, kMostAreas = 1024;

/// struct fmap and struct fmap_area.
struct MapHead {
  std::array<Byte, 8> signature{};
  std::uint8_t major = 0, minor = 0;
  std::uint64_t base = 0;
  std::uint32_t size = 0;
  std::array<Byte, 32> name{};
  std::uint16_t area_count = 0;
  static constexpr auto layout = little_endian(
      field("signature", &MapHead::signature), field("ver_major", &MapHead::major),
      field("ver_minor", &MapHead::minor), field("base", &MapHead::base), field("size", &MapHead::size),
      field("name", &MapHead::name), field("nareas", &MapHead::area_count));
};
struct MapRow {
  std::uint32_t offset = 0, size = 0;
  std::array<Byte, 32> name{};
  std::uint16_t flags = 0;
  static constexpr auto layout = little_endian(field("offset", &MapRow::offset), field("size", &MapRow::size),
                                               field("name", &MapRow::name), field("flags", &MapRow::flags));
};
constexpr std::size_t kHeader = size_on_disk<MapHead>, kRow = size_on_disk<MapRow>;

std::optional<FlashMap> map_at(const Source& bytes, std::uint64_t at) {
  Bytes raw = read_up_to(bytes, at, kHeader);
  if (raw.size() < kHeader) return std::nullopt;
  auto head = read_structure<MapHead>(raw.data());
  FlashMap map{at, head.base, head.size, field_text(head.name), {}};
  std::size_t count = head.area_count;
  if (head.major != 1 || count == 0 || count > kMostAreas || map.size == 0) return std::nullopt;
  Bytes rows = read_up_to(bytes, at + kHeader, count * kRow);
  if (rows.size() < count * kRow) return std::nullopt;
  for (std::size_t i = 0; i < count; ++i) {
    auto row = read_structure<MapRow>(rows.data() + i * kRow);
    FlashArea area{field_text(row.name), row.offset, row.size, row.flags};
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
