#include "format/archive/cpio_header.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"

namespace operculum::cpio {
namespace {

constexpr VariantInfo kVariants[] = {
    {"070701", Variant::newc, 110, 4},        {"070702", Variant::crc, 110, 4},
    {"070707", Variant::odc, 76, 1},          {"\xc7\x71", Variant::binary_little, 26, 2},
    {"\x71\xc7", Variant::binary_big, 26, 2},
};

/// A number of a header: where it is kept, and how many digits or 16-bit words it takes.
struct NumberPlace {
  std::uint64_t Header::*member;
  std::size_t width;
};

constexpr NumberPlace kHexNumbers[] = {
    {&Header::ino, 8},      {&Header::mode, 8},      {&Header::uid, 8},       {&Header::gid, 8},
    {&Header::nlink, 8},    {&Header::mtime, 8},     {&Header::filesize, 8},  {&Header::devmajor, 8},
    {&Header::devminor, 8}, {&Header::rdevmajor, 8}, {&Header::rdevminor, 8}, {&Header::namesize, 8},
    {&Header::check, 8},
};
// One device number in these forms: it is kept in the member for the major part, and split afterwards.
constexpr NumberPlace kOctalNumbers[] = {
    {&Header::devmajor, 6}, {&Header::ino, 6},       {&Header::mode, 6},      {&Header::uid, 6},
    {&Header::gid, 6},      {&Header::nlink, 6},     {&Header::rdevmajor, 6}, {&Header::mtime, 11},
    {&Header::namesize, 6}, {&Header::filesize, 11},
};
constexpr NumberPlace kWordNumbers[] = {
    {&Header::devmajor, 1}, {&Header::ino, 1},      {&Header::mode, 1},      {&Header::uid, 1},
    {&Header::gid, 1},      {&Header::nlink, 1},    {&Header::rdevmajor, 1}, {&Header::mtime, 2},
    {&Header::namesize, 1}, {&Header::filesize, 2},
};

bool has_hex_digits(Variant variant) {
  return variant == Variant::newc || variant == Variant::crc;
}

std::span<const NumberPlace> numbers_of(Variant variant) {
  if (has_hex_digits(variant)) return kHexNumbers;
  return variant == Variant::odc ? std::span<const NumberPlace>(kOctalNumbers) : kWordNumbers;
}

std::uint64_t read_digits(Cursor& cursor, std::size_t count, int base) {
  std::string_view text = cursor.text(count);
  auto value = parse_number(text, base);
  if (!value)
    cursor.fail(base == 8 ? "octal digits" : "hexadecimal digits", fmt::format("\"{}\"", escape(text)));
  return *value;
}

/// The more significant word comes first in both orders.
std::uint64_t read_words(Cursor& cursor, std::size_t count, Variant variant) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < count; ++i)
    value = (value << 16) | (variant == Variant::binary_little ? cursor.u16le() : cursor.u16be());
  return value;
}

void put_words(Bytes& out, std::uint64_t value, std::size_t count, Variant variant) {
  for (std::size_t i = count; i-- > 0;) {
    auto low = static_cast<Byte>(value >> (16 * i)), high = static_cast<Byte>(value >> (16 * i + 8));
    bool little = variant == Variant::binary_little;
    out.push_back(little ? low : high);
    out.push_back(little ? high : low);
  }
}

std::string digits_of(std::uint64_t value, std::size_t width, Variant variant, bool lower_case) {
  if (!has_hex_digits(variant)) return fmt::format("{:0{}o}", value, width);
  return lower_case ? fmt::format("{:0{}x}", value, width) : fmt::format("{:0{}X}", value, width);
}

}  // namespace

const VariantInfo* variant_of(ByteView head) {
  for (const VariantInfo& info : kVariants) {
    if (starts_with(head, info.magic)) return &info;
  }
  return nullptr;
}

const VariantInfo& info_of(Variant variant) {
  return kVariants[static_cast<std::size_t>(variant)];
}

Header read_header(ByteView block, std::uint64_t offset, const VariantInfo& info) {
  Cursor cursor(block, "cpio header", offset);
  cursor.skip(info.magic.size());
  Header header;
  bool words = info.variant == Variant::binary_little || info.variant == Variant::binary_big;
  int base = has_hex_digits(info.variant) ? 16 : 8;
  for (const NumberPlace& place : numbers_of(info.variant)) {
    header.*place.member =
        words ? read_words(cursor, place.width, info.variant) : read_digits(cursor, place.width, base);
  }
  if (has_hex_digits(info.variant)) return header;
  header.rdevminor = header.rdevmajor & 0xff;
  header.rdevmajor >>= 8;
  return header;
}

Bytes header_bytes(const Header& header, const VariantInfo& info, bool lower_case) {
  Header joined = header;
  if (!has_hex_digits(info.variant)) joined.rdevmajor = header.rdevmajor << 8 | header.rdevminor;
  bool words = info.variant == Variant::binary_little || info.variant == Variant::binary_big;
  Bytes out(info.magic.begin(), info.magic.end());
  for (const NumberPlace& place : numbers_of(info.variant)) {
    std::uint64_t value = joined.*place.member;
    std::size_t bits = words ? 16 * place.width : (has_hex_digits(info.variant) ? 4 : 3) * place.width;
    if (bits < 64 && value >> bits != 0)
      throw Unsupported(fmt::format("the number {} in this form of cpio, whose fields are smaller", value));
    if (words) {
      put_words(out, value, place.width, info.variant);
      continue;
    }
    std::string digits = digits_of(value, place.width, info.variant, lower_case);
    out.insert(out.end(), digits.begin(), digits.end());
  }
  return out;
}

std::uint64_t padding_to(std::uint64_t size, std::uint64_t alignment) {
  return (alignment - size % alignment) % alignment;
}

}  // namespace operculum::cpio
