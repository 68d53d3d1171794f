#include "format/package/rpm_header.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/structure.h"
#include "container/record_fields.h"

namespace operculum::rpm {
namespace {

/// What a header begins with; rows of its index, then the values follow.
struct HeaderIntro {
  std::array<Byte, 4> magic{};  // and a version
  std::uint32_t reserved = 0, nindex = 0, hsize = 0;
  static constexpr auto layout =
      big_endian(field("magic", &HeaderIntro::magic), field("reserved", &HeaderIntro::reserved),
                 field("nindex", &HeaderIntro::nindex), field("hsize", &HeaderIntro::hsize));
};
struct IndexRow {
  std::uint32_t tag = 0, type = 0, offset = 0, count = 0;
  static constexpr auto layout =
      big_endian(field("tag", &IndexRow::tag), field("type", &IndexRow::type),
                 field("offset", &IndexRow::offset), field("count", &IndexRow::count));
};
constexpr std::size_t kIntro = size_on_disk<HeaderIntro>, kRow = size_on_disk<IndexRow>;
constexpr std::uint32_t kMostRows = 65536, kMostStore = 64 << 20;
constexpr std::size_t kMostValues = 4 << 20;
constexpr Byte kMark[] = {0x8E, 0xAD, 0xE8, 0x01};

enum Type : std::uint32_t {
  int8_value = 2,
  int16_value = 3,
  int32_value = 4,
  int64_value = 5,
  text_value = 6,
  texts_value = 8,
  translated_value = 9
};

std::size_t width_of(std::uint32_t type) {
  switch (type) {
    case int16_value:
      return 2;
    case int32_value:
      return 4;
    case int64_value:
      return 8;
    default:
      return 1;
  }
}

}  // namespace

Header Header::read(const Source& bytes, std::uint64_t at) {
  Bytes intro = read_exactly(bytes, at, kIntro, "RPM header");
  if (!std::equal(std::begin(kMark), std::end(kMark), intro.begin()))
    throw Malformed(fmt::format("RPM header at offset {}: its mark is missing; the package is damaged", at));
  auto head = read_structure<HeaderIntro>(intro.data());
  std::uint32_t rows = head.nindex, size = head.hsize;
  if (rows > kMostRows || size > kMostStore)
    throw Malformed(
        fmt::format("RPM header at offset {}: {} values in {} bytes are not possible", at, rows, size));
  Bytes table = read_exactly(bytes, at + kIntro, std::uint64_t{rows} * kRow, "RPM header index");
  Header header;
  header.begin_ = at;
  header.store_ = read_exactly(bytes, at + kIntro + table.size(), size, "RPM header store");
  header.end_ = at + kIntro + table.size() + size;
  for (std::size_t i = 0; i < rows; ++i) {
    auto row = read_structure<IndexRow>(table.data() + i * kRow);
    header.values_[row.tag] = {row.type, row.offset, row.count};
  }
  return header;
}

const Header::Value* Header::find(std::uint32_t tag) const {
  auto found = values_.find(tag);
  return found == values_.end() || found->second.offset > store_.size() ? nullptr : &found->second;
}

std::vector<std::string> Header::texts(std::uint32_t tag) const {
  const Value* value = find(tag);
  std::vector<std::string> all;
  if (value == nullptr ||
      (value->type != text_value && value->type != texts_value && value->type != translated_value))
    return all;
  std::string_view rest = as_text(ByteView(store_).subspan(value->offset));
  for (std::size_t i = 0; i < std::min<std::size_t>(value->count, kMostValues) && !rest.empty(); ++i) {
    std::size_t end = rest.find('\0');
    all.emplace_back(rest.substr(0, end));
    if (end == std::string_view::npos) break;
    rest.remove_prefix(end + 1);
  }
  return all;
}

std::string Header::text(std::uint32_t tag) const {
  std::vector<std::string> all = texts(tag);
  return all.empty() ? "" : all.front();
}

std::vector<std::uint64_t> Header::numbers(std::uint32_t tag) const {
  const Value* value = find(tag);
  std::vector<std::uint64_t> all;
  if (value == nullptr || value->type < int8_value || value->type > int64_value) return all;
  std::size_t width = width_of(value->type), room = (store_.size() - value->offset) / width;
  for (std::size_t i = 0; i < std::min<std::size_t>({value->count, room, kMostValues}); ++i) {
    std::uint64_t number = 0;
    for (std::size_t b = 0; b < width; ++b) number = number << 8 | store_[value->offset + i * width + b];
    all.push_back(number);
  }
  return all;
}

std::uint64_t Header::number(std::uint32_t tag, std::uint64_t otherwise) const {
  std::vector<std::uint64_t> all = numbers(tag);
  return all.empty() ? otherwise : all.front();
}

KnownRecord known_intro(std::uint64_t at) {
  return record_at<HeaderIntro>("signature header", at);
}

}  // namespace operculum::rpm
