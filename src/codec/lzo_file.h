#pragma once

#include <string>

#include "base/time.h"
#include "io/input_buffer.h"

namespace operculum {

/// What stands in front of the blocks of an LZO file.
struct LzoFileHead {
  std::string name;  ///< as stored
  Timestamp modified;
  std::uint32_t flags = 0;
  std::size_t size = 0;  ///< of the header, in bytes

  enum Flag : std::uint32_t {
    adler_of_plain = 0x1,
    adler_of_packed = 0x2,
    extra_field = 0x40,
    crc_of_plain = 0x100,
    crc_of_packed = 0x200,
    filtered = 0x800,
    crc_of_head = 0x1000,
  };
};

constexpr std::string_view kLzoFileMagic = std::string_view("\x89LZO\0\r\n\x1a\n", 9);

/// Reads it from the front of `bytes`; throws Malformed, CutShort and Unsupported.
LzoFileHead read_lzo_file_head(ByteView bytes);

}  // namespace operculum
