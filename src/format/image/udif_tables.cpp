#include "format/image/udif_tables.h"

#include "base/structure.h"
#include "base/text.h"
#include "format/property_list.h"

namespace operculum::udif {
namespace {

constexpr std::string_view kKind = "blkx";

struct ForkHead {
  std::uint32_t data_at = 0, map_at = 0;
  static constexpr auto layout = big_endian(field("offset to resource data", &ForkHead::data_at),
                                            field("offset to resource map", &ForkHead::map_at));
};

/// Places within count from the map's begin.
struct MapHead {
  std::uint16_t types_at = 0, names_at = 0;
  static constexpr auto layout = big_endian(from_byte<24>(), field("offset to type list", &MapHead::types_at),
                                            field("offset to name list", &MapHead::names_at));
};

struct TypeEntry {
  std::array<Byte, 4> type{};
  std::uint16_t last = 0, references_at = 0;  ///< one less than there are; from the type list's begin
  static constexpr auto layout = big_endian(field("resource type", &TypeEntry::type),
                                            field("number of resources minus one", &TypeEntry::last),
                                            field("offset to reference list", &TypeEntry::references_at));
};

struct Reference {
  std::uint16_t id = 0, name_at = 0;
  std::uint32_t data_at = 0;
  static constexpr std::uint16_t no_name = 0xFFFF;
  static constexpr std::size_t size = 12;
  static constexpr auto layout =
      big_endian(field("resource ID", &Reference::id), field("offset to name", &Reference::name_at),
                 from_byte<5>(), narrow_field<3>("offset to data", &Reference::data_at));
};

/// Bytes of the fork; throws Malformed where they lie outside.
ByteView within(ByteView fork, std::size_t at, std::size_t count) {
  if (at > fork.size() || count > fork.size() - at)
    throw Malformed(fmt::format("UDIF resource fork: expected {} bytes from byte {} on, found {}", count, at,
                                fork.size() - std::min(at, fork.size())));
  return fork.subspan(at, count);
}
template <typename S>
S structure_at(ByteView fork, std::size_t at) {
  return read_structure<S>(within(fork, at, size_on_disk<S>).data());
}
std::uint64_t number_at(ByteView fork, std::size_t at, std::size_t width) {
  return load_number(within(fork, at, width).data(), width, std::endian::big);
}

Table table_of(ByteView fork, const ForkHead& head, const Reference& reference, std::size_t names_at) {
  constexpr std::size_t kLength = 4;
  Table out;
  std::size_t at = std::size_t{head.data_at} + reference.data_at;
  ByteView bytes = within(fork, at + kLength, number_at(fork, at, kLength));
  out.bytes.assign(bytes.begin(), bytes.end());
  if (reference.name_at != Reference::no_name) {
    std::size_t name = names_at + reference.name_at;
    out.name = std::string(as_text(within(fork, name + 1, number_at(fork, name, 1))));
  }
  return out;
}

}  // namespace

std::vector<Table> tables_in_list(ByteView list) {
  pugi::xml_document document;
  if (pugi::xml_parse_result parsed = document.load_buffer(list.data(), list.size()); !parsed)
    throw Malformed(fmt::format("UDIF property list: {} at byte {}", parsed.description(), parsed.offset));
  std::vector<Table> out;
  pugi::xml_node resources = value_of(document.child("plist").child("dict"), "resource-fork");
  for (pugi::xml_node table : value_of(resources, kKind).children("dict"))
    out.push_back({value_of(table, "Name").text().get(), from_base64(value_of(table, "Data").text().get())});
  if (out.empty()) throw Malformed("UDIF property list: there are no chunk tables");
  return out;
}

std::vector<Table> tables_in_fork(ByteView fork) {
  auto head = structure_at<ForkHead>(fork, 0);
  auto map = structure_at<MapHead>(fork, head.map_at);
  std::size_t types_at = std::size_t{head.map_at} + map.types_at,
              names_at = std::size_t{head.map_at} + map.names_at;
  constexpr std::size_t kCount = 2;
  std::size_t types = (number_at(fork, types_at, kCount) + 1) & 0xFFFF;
  std::vector<Table> out;
  for (std::size_t i = 0; i < types; ++i) {
    auto type = structure_at<TypeEntry>(fork, types_at + kCount + i * size_on_disk<TypeEntry>);
    if (as_text(type.type) != kKind) continue;
    for (std::size_t k = 0; k <= type.last; ++k) {
      auto reference = structure_at<Reference>(fork, types_at + type.references_at + k * Reference::size);
      out.push_back(table_of(fork, head, reference, names_at));
    }
  }
  if (out.empty()) throw Malformed("UDIF resource fork: there are no chunk tables");
  return out;
}

}  // namespace operculum::udif
