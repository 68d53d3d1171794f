#include "format/archive/tar_header.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/error.h"
#include "base/text.h"

namespace operculum::tar {
namespace {

constexpr std::size_t kChecksumAt = place_of(&RawHeader::chksum).at, kChecksumLength = 8;

/// Up to the first NUL.
std::string_view c_string(std::string_view field) {
  return until_zero(field);
}

struct Sums {
  std::uint64_t plain;
  std::int64_t with_signed_bytes;  // some old writers summed signed characters
};

/// Eight bytes at a time: a listing does little else. Lanes of 16 bits have room for a block's.
Sums sums_of(ByteView block) {
  constexpr std::uint64_t kEven = 0x00FF00FF00FF00FF, kHigh = 0x8080808080808080;
  std::uint64_t lanes = 0, high = 0;
  for (std::size_t i = 0; i < kBlock; i += 8) {
    auto eight = load_little<std::uint64_t>(block.data() + i);
    lanes += (eight & kEven) + (eight >> 8 & kEven);
    high += static_cast<std::uint64_t>(std::popcount(eight & kHigh));
  }
  std::uint64_t plain = 0;
  for (unsigned lane = 0; lane < 4; ++lane) plain += lanes >> (16 * lane) & 0xFFFF;
  for (std::size_t i = kChecksumAt; i < kChecksumAt + kChecksumLength;
       ++i) {  // its own field counts as blanks
    plain += std::uint64_t{' '} - block[i];
    high -= block[i] >> 7;
  }
  return {plain, static_cast<std::int64_t>(plain) - static_cast<std::int64_t>(high * 256)};
}

}  // namespace

std::optional<std::int64_t> parse_field(std::string_view field) {
  if (!field.empty() && (static_cast<unsigned char>(field[0]) & 0x80) != 0) {
    auto first = static_cast<unsigned char>(field[0]);
    // Bit 6 is the sign of the two's complement number that fills the rest of the field.
    std::uint64_t value = (first & 0x40) != 0 ? ~std::uint64_t{0} : 0;
    value = (value << 6) | (first & 0x3f);
    for (std::size_t i = 1; i < field.size(); ++i) {
      std::uint64_t top = value >> 55;
      if (top != 0 && top != 0x1ff) return std::nullopt;
      value = (value << 8) | static_cast<unsigned char>(field[i]);
    }
    return static_cast<std::int64_t>(value);
  }
  field = c_string(field);
  while (!field.empty() && field.front() == ' ') field.remove_prefix(1);
  while (!field.empty() && field.back() == ' ') field.remove_suffix(1);
  if (field.empty()) return 0;
  auto value = parse_number(field, 8);
  if (!value || *value > static_cast<std::uint64_t>(INT64_MAX)) return std::nullopt;
  return static_cast<std::int64_t>(*value);
}

bool is_zero_block(ByteView block) {
  return std::all_of(block.begin(), block.end(), [](Byte b) { return b == 0; });
}

bool checksum_fits(ByteView block) {
  if (block.size() < kBlock) return false;
  auto stored = parse_field(as_text(block.subspan(kChecksumAt, kChecksumLength)));
  if (!stored || *stored == 0) return false;
  Sums sums = sums_of(block);
  return static_cast<std::uint64_t>(*stored) == sums.plain || *stored == sums.with_signed_bytes;
}

Bytes RawHeader::block() const {
  Bytes out;
  append_structure(out, *this);
  std::string sum = fmt::format("{:06o}", sums_of(out).plain);
  sum.append("\0 ", 2);  // as POSIX.1-1988 writes it
  std::copy(sum.begin(), sum.end(), out.begin() + kChecksumAt);
  return out;
}

Header Header::read(ByteView block, std::uint64_t offset) {
  if (!checksum_fits(block)) {
    throw Malformed(fmt::format(
        "tar header at offset {}: expected a header whose checksum fits, found one whose checksum "
        "does not",
        offset));
  }
  Header h;
  h.raw = block;
  auto text = [&](const auto RawHeader::*member) {
    return as_text(block.subspan(place_of(member).at, (RawHeader{}.*member).size()));
  };
  auto number = [&](const auto RawHeader::*member) {
    auto value = parse_field(text(member));
    if (!value) refuse_field("tar header", offset, member, "a number", "other characters");
    return *value;
  };
  auto natural = [&](const auto RawHeader::*member) {
    std::int64_t value = number(member);
    if (value < 0)
      refuse_field("tar header", offset, member, "a number that is not negative", std::to_string(value));
    return static_cast<std::uint64_t>(value);
  };
  auto lenient = [&](const auto RawHeader::*member) {
    return static_cast<std::uint64_t>(parse_field(text(member)).value_or(0));
  };
  h.name = c_string(text(&RawHeader::name));
  h.mode = natural(&RawHeader::mode);
  h.uid = lenient(&RawHeader::uid);
  h.gid = lenient(&RawHeader::gid);
  h.size = natural(&RawHeader::size);
  h.mtime = number(&RawHeader::mtime);
  h.chksum = natural(&RawHeader::chksum);
  h.typeflag = text(&RawHeader::typeflag)[0];
  h.linkname = c_string(text(&RawHeader::linkname));
  std::string_view magic = text(&RawHeader::magic);
  if (magic == std::string_view("ustar  \0", 8)) {
    h.variant = Variant::gnu;
  } else if (magic.starts_with("ustar")) {
    h.variant = Variant::ustar;
  }
  if (h.variant == Variant::v7) return h;
  h.uname = c_string(text(&RawHeader::uname));
  h.gname = c_string(text(&RawHeader::gname));
  h.devmajor = lenient(&RawHeader::devmajor);
  h.devminor = lenient(&RawHeader::devminor);
  // The GNU variant has a time in its place; where there is none, a writer put both forms into one (Go
  // before 1.8 did).
  constexpr std::size_t kTime = 12;
  std::string_view prefix = text(&RawHeader::prefix);
  bool no_time = h.typeflag != 'S' && !parse_field(prefix.substr(0, kTime));
  if (h.variant == Variant::ustar || no_time) h.prefix = c_string(prefix);
  return h;
}

}  // namespace operculum::tar
