#include "support/tar_builder.h"

#include <fmt/format.h>

#include <algorithm>

namespace operculum::test {
namespace {

constexpr std::size_t kBlock = 512;

void put(Bytes& block, std::size_t at, std::string_view text) {
  std::copy(text.begin(), text.end(), block.begin() + static_cast<std::ptrdiff_t>(at));
}

/// Octal digits and a NUL; base-256 when they do not fit (GNU).
void put_number(Bytes& block, std::size_t at, std::size_t width, std::int64_t value) {
  std::string digits = value < 0 ? "" : fmt::format("{:0{}o}", value, width - 1);
  if (value >= 0 && digits.size() < width) return put(block, at, digits);
  for (std::size_t i = 0; i < width; ++i) {
    std::size_t shift = 8 * (width - 1 - i);
    std::int64_t part = shift >= 64 ? (value < 0 ? -1 : 0) : value >> shift;
    block[at + i] = static_cast<Byte>(part);
  }
  block[at] |= 0x80;
}

}  // namespace

Bytes TarBuilder::header(const TarItem& item, std::uint64_t size, TarStyle style, ByteView tail) {
  Bytes block(kBlock);
  put(block, 0, std::string_view(item.name).substr(0, 100));
  put_number(block, 100, 8, static_cast<std::int64_t>(item.mode));
  put_number(block, 108, 8, 1000);
  put_number(block, 116, 8, 100);
  put_number(block, 124, 12, static_cast<std::int64_t>(size));
  put_number(block, 136, 12, item.mtime);
  block[156] = static_cast<Byte>(item.typeflag);
  put(block, 157, std::string_view(item.link).substr(0, 100));
  if (style != TarStyle::v7) {
    put(block, 257,
        style == TarStyle::gnu ? std::string_view("ustar  \0", 8)
                               : std::string_view("ustar\0"
                                                  "00",
                                                  8));
    put(block, 265, "curator");
    put(block, 297, "museum");
    put_number(block, 329, 8, static_cast<std::int64_t>(item.device_major));
    put_number(block, 337, 8, static_cast<std::int64_t>(item.device_minor));
    put(block, 345, item.prefix);
  }
  std::copy(tail.begin(), tail.end(), block.begin() + 345);
  put(block, 148, "        ");
  unsigned sum = 0;
  for (Byte b : block) sum += b;
  put(block, 148, fmt::format("{:06o}", sum));
  block[154] = 0;
  return block;
}

TarBuilder& TarBuilder::add(const TarItem& item) {
  out_.bytes(header(item, item.data.size(), style_)).bytes(item.data).align(kBlock);
  return *this;
}

TarBuilder& TarBuilder::pax(const std::vector<std::pair<std::string, std::string>>& records, char typeflag) {
  std::string text;
  for (const auto& [keyword, value] : records) {
    std::string rest = fmt::format(" {}={}\n", keyword, value);
    std::size_t length = rest.size() + 1;
    while (std::to_string(length).size() + rest.size() != length)
      length = std::to_string(length).size() + rest.size();
    text += std::to_string(length) + rest;
  }
  return add({.name = "pax", .data = to_bytes(text), .typeflag = typeflag});
}

TarBuilder& TarBuilder::raw(ByteView blocks) {
  out_.bytes(blocks).align(kBlock);
  return *this;
}

Bytes TarBuilder::build() const {
  ByteWriter all = out_;
  return all.zeros(2 * kBlock).take();
}

}  // namespace operculum::test
