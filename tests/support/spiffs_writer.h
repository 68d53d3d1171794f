#pragma once

#include <algorithm>
#include <string>

#include "support/byte_writer.h"

namespace operculum::test {

// cleared bits: used, final, of an index, deleted
inline constexpr Byte kDataFlags = 0xFC, kIndexFlags = 0xF8, kDeletedIndex = 0x78, kDeletedData = 0x7C;

/// Writes pages one after another, each block's lookup in front of it.
class SpiffsWriter {
 public:
  SpiffsWriter(std::size_t page, std::size_t block, std::size_t blocks, bool magic, bool counted)
      : page_(page), block_(block), image_(Bytes(block * blocks, 0xFF)) {
    lookup_pages_ = std::max<std::size_t>(1, block / page * 2 / page);
    for (std::size_t i = 0; i < blocks && magic; ++i) {
      std::size_t number = 0x20140529 ^ page ^ (counted ? blocks - i : 0);
      image_.u16(i * block + lookup_pages_ * page - 4, number);
      image_.u16(i * block + lookup_pages_ * page - 2, 7);
    }
    at_ = lookup_pages_;
  }

  /// A file: its index page, then its data.
  void file(std::uint16_t id, const std::string& name, const Bytes& data, std::uint32_t size) {
    Bytes body = ByteWriter().zeros(3).u32(size).u8(1).text(name).take();
    body.resize(3 + 5 + 32);
    put(static_cast<std::uint16_t>(id | 0x8000), 0, kIndexFlags, body);
    std::size_t room = page_ - 5;
    for (std::size_t span = 0; span * room < data.size(); ++span) {
      std::size_t count = std::min(room, data.size() - span * room);
      auto begin = data.begin() + static_cast<std::ptrdiff_t>(span * room);
      put(id, static_cast<std::uint16_t>(span), kDataFlags,
          Bytes(begin, begin + static_cast<std::ptrdiff_t>(count)));
    }
  }
  void file(std::uint16_t id, const std::string& name, const Bytes& data) {
    file(id, name, data, static_cast<std::uint32_t>(data.size()));
  }

  std::size_t put(std::uint16_t id, std::uint16_t span, Byte flags, const Bytes& body) {
    std::size_t pages = block_ / page_, number = at_ / pages, within = at_ % pages;
    image_.u16(number * block_ + (within - lookup_pages_) * 2, id);
    std::size_t place = at_ * page_;
    image_.put(place, ByteWriter().u16(id).u16(span).u8(flags).bytes(body).view());
    if (++at_ % pages == 0) at_ += lookup_pages_;
    return place;
  }

  Bytes take() { return image_.take(); }

 private:
  std::size_t page_, block_, lookup_pages_ = 1, at_ = 0;
  Canvas image_;
};

}  // namespace operculum::test
