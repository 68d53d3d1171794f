#pragma once

#include <string>

#include "base/checksum.h"
#include "support/byte_writer.h"

namespace operculum::test {

/// An LZO file of one block, which is stored.
inline Bytes lzo_file(const std::string& text, bool crc) {
  ByteWriter head;
  head.u16be(0x1040).u16be(0x20A0).u16be(0x0940).u8(1).u8(5).u32be(crc ? 0x1100 : 1).u32be(0100644);
  head.u32be(1772373908).u32be(0).u8(8).text("tide.csv");
  auto adler = [](ByteView bytes) {
    std::uint32_t a = 1, b = 0;
    for (Byte one : bytes) {
      a = (a + one) % 65521;
      b = (b + a) % 65521;
    }
    return b << 16 | a;
  };
  Bytes fields = head.take();
  ByteWriter out;
  out.text(std::string_view("\x89LZO\0\r\n\x1a\n", 9)).bytes(fields);
  out.u32be(crc ? crc32(0, fields) : adler(fields));
  Bytes plain = to_bytes(text);
  out.u32be(plain.size()).u32be(plain.size()).u32be(crc ? crc32(0, plain) : adler(plain)).bytes(plain);
  return out.u32be(0).take();
}

}  // namespace operculum::test
